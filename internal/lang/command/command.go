// Package command makes programs by a project's own build.
package command

import (
	"context"
	_ "embed"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/plan"
)

//go:embed keys.md
var docs string

// Language is whatever the project's own build is in.
type Language struct{}

// Keys are those of programs that a project's own build makes.
type Keys struct {
	lang.Building
	lang.Compiled
	Run  config.Commands `toml:"run" need:"yes"`
	File string          `toml:"file"`
}

// HasStage says that whatever is installed is kept.
func (*Keys) HasStage() bool { return true }

// Build is a project's own build. {stage}, {work}, {triplet}, {jobs} and
// {stage.NAME} are filled when it runs.
type Build struct {
	Run [][]string `json:"run"`
}

// Compiler is handed on.
func (*Build) Compiler() *plan.CompilerNeed { return &plan.CompilerNeed{} }

// Stage is all that is installed.
func (*Build) Stage() bool { return true }

// Executable says that the named file is a program.
func (*Build) Executable() bool { return true }

// Detail is nothing.
func (*Build) Detail() string { return "" }

// Name is that of the language.
func (Language) Name() string { return "command" }

// Keys makes new ones.
func (Language) Keys() any { return &Keys{} }

// Docs describe the keys.
func (Language) Docs() []string { return []string{docs, lang.SharedDocs} }

// Check holds the texts of a program against the placeholders that there are.
func (Language) Check(_ context.Context, f *config.Faults, p *lang.Program, where string) {
	k := p.Own.(*Keys)
	lang.CheckSourceFolder(f, p, where)
	if len(k.Run) == 0 && f.Given(where+".run") {
		f.Fail(where+".run", fmt.Sprintf("[%s] needs the key \"run\": the commands that build it", where),
			"such as run = [[\"make\"], [\"make\", \"install\", \"DESTDIR={stage}\"]]")
	}
	names := p.StagePlaceholders(slices.Concat(lang.AtRunTime, lang.Placeholders))
	for i, words := range k.Run {
		for n, text := range words {
			f.Placeholders(fmt.Sprintf("%s.run.%d.%d", where, i, n), text, names)
		}
	}
	for key, text := range k.Env {
		f.Placeholders(where+".env."+key, text, names)
	}
	f.Inside(where+".file", k.File)
}

// Plan plans one build.
func (Language) Plan(c *plan.Context, p *lang.Program, b *plan.Build) {
	k := p.Own.(*Keys)
	b.Dir = path.Clean(p.Source)
	if info, err := fs.Stat(c.Facts.Files, b.Dir); err != nil || !info.IsDir() {
		c.FailOnce("program %q: there is no folder %s; change \"source\" in [program.%s]", p.Name, p.Source, p.Name)
		return
	}
	job := &Build{}
	v := lang.LaterValues(c, p, b.Platform)
	for _, words := range k.Run {
		job.Run = append(job.Run, c.FillAll(words, v))
	}
	out := plan.Output{Program: p.Name, Expect: p.Expect}
	if k.File != "" {
		out.File = strings.TrimPrefix(path.Clean(k.File), "/")
		if path.Ext(out.File) != ".exe" {
			out.File = b.Platform.Executable(out.File)
		}
	}
	b.Programs, b.Job = []plan.Output{out}, job
	c.AddBuild("build", b)
}
