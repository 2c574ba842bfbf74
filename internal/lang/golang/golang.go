// Package golang makes Go programs, by the Go toolchain.
package golang

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/plan"
)

//go:embed keys.md
var docs string

// Language is Go.
type Language struct {
	Tools *Tools
	Dir   string // of the project, where the toolchain is asked
	// Lenient takes a missing toolchain for no fault of the description; the
	// platforms are not checked then.
	Lenient bool
	Known   []string // the platforms it compiles for; nil asks the toolchain
}

// Keys are those of programs in Go.
type Keys struct {
	lang.Building
	Stamp map[string]string `toml:"stamp" fill:"@placeholders"`
	Tags  []string          `toml:"tags"`
	Flags []string          `toml:"flags"`
	Cgo   bool              `toml:"cgo" default:"false"`
}

// CallsCompiler says whether C is compiled beside Go.
func (k *Keys) CallsCompiler() bool { return k.Cgo }

// CompilerOf is the toolchain's version as the program's folder sees it.
func (l Language) CompilerOf(ctx context.Context, root string, p *lang.Program) (string, error) {
	t, err := l.Tools.Find(ctx, filepath.Join(root, filepath.FromSlash(p.Source)))
	if err != nil {
		return "", err
	}
	return t.Version, nil
}

// Build is what the Go tool is told.
type Build struct {
	Stamp []string `json:"stamp,omitempty"` // variable=text, sorted
	Tags  []string `json:"tags,omitempty"`
	Flags []string `json:"flags,omitempty"`
	Cgo   bool     `json:"cgo,omitempty"`

	group string // builds of one group are one run of the tool
}

// Compiler is needed with cgo.
func (b *Build) Compiler() *plan.CompilerNeed {
	if b.Cgo {
		return &plan.CompilerNeed{}
	}
	return nil
}

// Stage is none: the programs are all.
func (*Build) Stage() bool { return false }

// Executable says that programs come out.
func (*Build) Executable() bool { return true }

// Detail are the variables that the linker sets.
func (b *Build) Detail() string { return strings.Join(b.Stamp, " ") }

// Name is that of the language.
func (Language) Name() string { return "go" }

// Keys makes new ones.
func (Language) Keys() any { return &Keys{} }

// Docs describe the keys.
func (Language) Docs() []string { return []string{docs, lang.SharedDocs} }

// Check holds a program against the toolchain, and its flags against what Piedmont
// sets itself.
func (l Language) Check(ctx context.Context, f *config.Faults, p *lang.Program, where string) {
	k := p.Own.(*Keys)
	lang.CheckSourceFolder(f, p, where)
	l.checkPlatforms(ctx, f, p, where)
	for i, flag := range k.Flags {
		at := fmt.Sprintf("%s.flags.%d", where, i)
		if !strings.HasPrefix(flag, "-") {
			f.Fail(at, fmt.Sprintf("%q is not a flag: it begins with no hyphen", flag),
				"write a flag and its value in one text, as in \"-gcflags=-N\"")
		}
		if name, _, _ := strings.Cut(strings.TrimLeft(flag, "-"), "="); name == "o" || name == "C" {
			f.Fail(at, fmt.Sprintf("-%s is set by Piedmont itself", name), "")
		}
	}
	names := p.StagePlaceholders(lang.Placeholders)
	for key, text := range k.Env {
		at := where + ".env." + key
		if slices.Contains([]string{"GOOS", "GOARCH", "CGO_ENABLED", "GOFLAGS"}, key) {
			f.Fail(at, key+" is set by Piedmont itself", "use platforms, cgo and flags")
		}
		f.Placeholders(at, text, names)
	}
}

func (l Language) checkPlatforms(ctx context.Context, f *config.Faults, p *lang.Program, where string) {
	known, err := l.Known, error(nil)
	if known == nil {
		known, err = l.Tools.Platforms(ctx, l.Dir)
	}
	if errors.Is(err, ErrNoGo) && l.Lenient {
		return
	}
	if err != nil {
		f.Stop(err)
		return
	}
	for _, on := range p.Platforms.List {
		if !slices.Contains(known, on.Base()) {
			f.Fail(where+".platforms.0", fmt.Sprintf("the Go toolchain cannot compile for %s", on.Base()),
				"\"go tool dist list\" shows what it can")
		}
	}
}

// Plan plans one run of the Go tool for all programs of equal flags.
func (Language) Plan(c *plan.Context, p *lang.Program, b *plan.Build) {
	k := p.Own.(*Keys)
	source := path.Clean(strings.ReplaceAll(p.Source, "\\", "/"))
	if !hasGo(c, p, source) {
		return
	}
	b.Dir = moduleOf(c, source)
	pkg := "./" + strings.TrimPrefix(strings.TrimPrefix(source, b.Dir), "/")
	if source == b.Dir {
		pkg = "."
	}
	job := &Build{Tags: k.Tags, Flags: k.Flags, Cgo: k.Cgo}
	v := lang.Values(c, p, b.Platform)
	for key, text := range k.Stamp {
		job.Stamp = append(job.Stamp, key+"="+c.Fill(text, v))
	}
	slices.Sort(job.Stamp)
	out := plan.Output{Program: p.Name, Package: pkg, File: b.Platform.Executable(p.Name), Expect: p.Expect}
	job.group = fmt.Sprintf("%q", []any{b.Target, b.Dir, *job, b.Env, b.Needs, b.Toolchain})
	// The compiler names what it makes after the folder; one whose name
	// is another must be alone in its run.
	if path.Base(source) != p.Name || pkg == "." {
		job.group += p.Name
	}
	for _, other := range c.Plan.Builds {
		if o, ok := other.Job.(*Build); ok && o.group == job.group {
			other.Programs = append(other.Programs, out)
			return
		}
	}
	b.Programs, b.Job = []plan.Output{out}, job
	c.AddBuild("compile", b)
}

func hasGo(c *plan.Context, p *lang.Program, source string) bool {
	entries, err := fs.ReadDir(c.Facts.Files, source)
	if err != nil {
		c.FailOnce("program %q: there is no folder %s; change \"source\" in [program.%s]", p.Name, p.Source, p.Name)
		return false
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".go") && !strings.HasSuffix(e.Name(), "_test.go") {
			return true
		}
	}
	c.FailOnce("program %q: the folder %s holds no Go files; change \"source\" in [program.%s]", p.Name,
		p.Source, p.Name)
	return false
}

// moduleOf finds the folder of the go.mod that a package belongs to.
func moduleOf(c *plan.Context, source string) string {
	for dir := source; ; dir = path.Dir(dir) {
		if _, err := fs.Stat(c.Facts.Files, path.Join(dir, "go.mod")); err == nil || dir == "." {
			return dir
		}
	}
}

// Version says what compiles a program of a project.
func (l Language) Version(ctx context.Context, root string, p *lang.Program) (string, error) {
	t, err := l.Tools.Find(ctx, filepath.Join(root, filepath.FromSlash(p.Source)))
	if err != nil {
		return "", err
	}
	return t.Version, nil
}
