package golang

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

	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
)

// builder compiles Go programs of one project.
type builder struct {
	*lang.Shop
	tools   map[string]*Tool // by module folder
	modules *modules
}

// Builder asks for the toolchain of every module that the builds are in.
func (l Language) Builder(ctx context.Context, s *lang.Shop, builds []*plan.Build) (lang.Builder, error) {
	g := &builder{Shop: s, tools: map[string]*Tool{}, modules: &modules{inputs: s.Inputs}}
	for _, b := range builds {
		if _, ok := b.Job.(*Build); !ok || g.tools[b.Dir] != nil {
			continue
		}
		t, err := l.Tools.Find(ctx, filepath.Join(s.Root, b.Dir))
		if err != nil {
			return nil, err
		}
		g.tools[b.Dir] = t
	}
	return g, nil
}

// Prepare finds out what a build depends on.
func (g *builder) Prepare(ctx context.Context, b *plan.Build, stages lang.Stages) (engine.Work, error) {
	key, err := g.key(ctx, b, stages)
	return engine.Work{Key: key, Run: func(ctx context.Context) ([]store.Object, error) {
		return g.InBuildDir(ctx, b, func(dir string) error { return g.build(ctx, b, dir, stages) })
	}}, err
}

// key is a text over everything that decides what a build makes: the toolchain,
// the flags, and every file of the module and of those beside it that it uses. It
// is "" where that is not all: with cgo, the C compiler and the system's headers
// count too, and the Go tool looks after them.
func (g *builder) key(ctx context.Context, b *plan.Build, stages lang.Stages) (string, error) {
	if b.Job.(*Build).Cgo {
		return "", nil
	}
	t := g.tools[b.Dir]
	sum, err := g.modules.digest(ctx, filepath.Join(g.Root, b.Dir), t.settings["GOWORK"])
	if errors.Is(err, errUnreadable) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	needs, err := stages.Sums(ctx, g.Inputs, b)
	if err != nil {
		return "", err
	}
	key, err := json.Marshal([]any{"go/3", t.Version, t.settings["GOEXPERIMENT"], b.Target, b.Programs,
		arguments(b), b.Env, sum, needs})
	return string(key), err
}

// build compiles all programs of b into folder dir, under their file names.
func (g *builder) build(ctx context.Context, b *plan.Build, dir string, stages lang.Stages) error {
	t := g.tools[b.Dir]
	out := dir + string(filepath.Separator)
	if len(b.Programs) == 1 {
		out = filepath.Join(dir, b.Programs[0].File)
	}
	env := append(t.environ("CGO_ENABLED=0"), b.Platform.GoEnv()...)
	if b.Job.(*Build).Cgo {
		cc, err := g.Finder.Find(ctx, b.Platform, toolchain.Options{Name: b.Toolchain, Fetch: true})
		if err != nil {
			return err
		}
		env = append(env, cgoEnv(cc)...)
	}
	env = append(env, lang.RunValues{Stages: stages}.Fill(b.Env)...)
	args := append([]string{"build", "-o", out, "-p", strconv.Itoa(max(1, g.Jobs))}, arguments(b)...)
	stdout, stderr, err := lang.Run(ctx, filepath.Join(g.Root, b.Dir), env, "go", args...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		e := &lang.CompileError{Platform: b.Platform, Output: lang.FirstOf(stderr+stdout, err.Error())}
		for _, p := range b.Programs {
			e.Programs = append(e.Programs, p.Program)
		}
		return e
	}
	for _, p := range b.Programs {
		info, err := os.Stat(filepath.Join(dir, p.File))
		if err != nil {
			return fmt.Errorf("%s for %s: the compiler made no program from %s; is it a \"package main\"?",
				p.Program, b.Platform, path.Join(b.Dir, p.Package))
		}
		if info.Mode()&0o100 == 0 {
			return fmt.Errorf("%s for %s: %s is not a \"package main\": a library was made instead of a program",
				p.Program, b.Platform, path.Join(b.Dir, p.Package))
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

// arguments are the arguments after the output. All -ldflags are joined into one,
// since the Go tool lets the last one win.
func arguments(b *plan.Build) []string {
	job := b.Job.(*Build)
	args := []string{"-trimpath"}
	if len(job.Tags) > 0 {
		args = append(args, "-tags="+strings.Join(job.Tags, ","))
	}
	var link []string
	for _, stamp := range job.Stamp {
		link = append(link, "-X "+quote(stamp))
	}
	for _, flag := range job.Flags {
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
