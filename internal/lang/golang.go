package lang

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
)

// Go compiles Go programs of one project.
type Go struct {
	Root   string // the project's folder
	Jobs   int
	Inputs *Inputs
	Finder *toolchain.Finder
	tools  map[string]*GoTool // by module folder
}

// NewGo asks for the toolchain of every module that the builds are in.
func NewGo(ctx context.Context, tools *Tools, root string, builds []plan.Build, jobs int, in *Inputs, finder *toolchain.Finder) (*Go, error) {
	g := &Go{Root: root, Jobs: jobs, Inputs: in, Finder: finder, tools: map[string]*GoTool{}}
	for _, b := range builds {
		if b.Go == nil {
			continue
		}
		if g.tools[b.Dir] != nil {
			continue
		}
		t, err := tools.Find(ctx, filepath.Join(root, b.Dir))
		if err != nil {
			return nil, err
		}
		g.tools[b.Dir] = t
	}
	return g, nil
}

// Key is a text over everything that decides what a build makes: the
// toolchain, the flags, and every file of the module and of those beside it
// that it uses. It is "" where that is not all: with cgo, the C compiler and
// the system's headers count too, and the Go tool looks after them.
func (g *Go) Key(ctx context.Context, b plan.Build, stages Stages) (string, error) {
	if b.Go.Cgo {
		return "", nil
	}
	t := g.tools[b.Dir]
	sum, err := g.Inputs.Digest(ctx, filepath.Join(g.Root, b.Dir), t.settings["GOWORK"])
	if errors.Is(err, errUnreadable) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	needs, err := stageSums(ctx, g.Inputs, b, stages)
	if err != nil {
		return "", err
	}
	key, err := json.Marshal([]any{"go/2", t.Version, t.settings["GOEXPERIMENT"], b.Target, b.Programs, g.args(b), b.Env, sum, needs})
	return string(key), err
}

// Build compiles all programs of b into folder dir, under their file names.
func (g *Go) Build(ctx context.Context, b plan.Build, dir string, stages Stages) error {
	t := g.tools[b.Dir]
	out := dir + string(filepath.Separator)
	if len(b.Programs) == 1 {
		out = filepath.Join(dir, b.Programs[0].File)
	}
	env := append(t.env("CGO_ENABLED=0"), b.Platform.GoEnv()...)
	if b.Go.Cgo {
		cc, err := g.Finder.Find(ctx, b.Platform, b.Toolchain, true)
		if err != nil {
			return err
		}
		env = append(env, cgoEnv(cc)...)
	}
	args := append([]string{"build", "-o", out, "-p", strconv.Itoa(max(1, g.Jobs))}, g.args(b)...)
	stdout, stderr, err := run(ctx, filepath.Join(g.Root, b.Dir), append(env, fillAll(b.Env, runValues{stages: stages})...), "go", args...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		e := &CompileError{Platform: b.Platform, Output: firstOf(stderr+stdout, err.Error())}
		for _, p := range b.Programs {
			e.Programs = append(e.Programs, p.Program)
		}
		return e
	}
	for _, p := range b.Programs {
		info, err := os.Stat(filepath.Join(dir, p.File))
		if err != nil {
			return fmt.Errorf("%s for %s: the compiler made no program from %s; is it a \"package main\"?", p.Program, b.Platform, path.Join(b.Dir, p.Package))
		}
		if info.Mode()&0o100 == 0 {
			return fmt.Errorf("%s for %s: %s is not a \"package main\": a library was made instead of a program", p.Program, b.Platform, path.Join(b.Dir, p.Package))
		}
	}
	return nil
}

// cgoEnv tells the Go tool of the platform's C compiler.
func cgoEnv(cc *toolchain.Compiler) []string {
	env := append([]string{"CGO_ENABLED=1"}, cc.Env...)
	for name, tool := range map[string]string{"CC": "cc", "CXX": "cxx", "AR": "ar"} {
		if path := cc.Tools[tool]; path != "" {
			words := []string{quote(path)}
			if tool != "ar" {
				words = append(words, cc.Flags...)
			}
			env = append(env, name+"="+strings.Join(words, " "))
		}
	}
	if len(cc.LinkFlags) > 0 {
		env = append(env, "CGO_LDFLAGS="+strings.Join(cc.LinkFlags, " "))
	}
	return env
}

// args are the arguments after the output. All -ldflags are joined into one,
// since the Go tool lets the last one win.
func (g *Go) args(b plan.Build) []string {
	args := []string{"-trimpath"}
	if len(b.Go.Tags) > 0 {
		args = append(args, "-tags="+strings.Join(b.Go.Tags, ","))
	}
	var link []string
	for _, stamp := range b.Go.Stamp {
		link = append(link, "-X "+quote(stamp))
	}
	for _, flag := range b.Go.Flags {
		if v, ok := strings.CutPrefix("-"+strings.TrimLeft(flag, "-"), "-ldflags="); ok {
			link = append(link, v)
			continue
		}
		args = append(args, flag)
	}
	if len(link) > 0 {
		args = append(args, "-ldflags="+strings.Join(link, " "))
	}
	for _, p := range b.Programs {
		args = append(args, p.Package)
	}
	return args
}

// quote protects a text in a list that the Go tool splits at spaces. Such a
// text cannot hold both kinds of quotes; the plan's values hold neither.
func quote(s string) string {
	if !strings.ContainsAny(s, " \t\n'\"") {
		return s
	}
	if !strings.Contains(s, "'") {
		return "'" + s + "'"
	}
	return `"` + s + `"`
}
