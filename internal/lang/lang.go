// Package lang is the table [program.NAME]: what all languages share in planning
// and building programs. Each language is a package below this one; what comes out
// of its builds is kept, examined, and held against what is expected, here.
package lang

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/check/expect"
	"piedmont/internal/config"
	"piedmont/internal/make/engine"
	"piedmont/internal/plan"
)

// Texts of the keys; SharedDocs are those of Building.
var (
	//go:embed keys.md
	docs string
	//go:embed building.md
	SharedDocs string
)

// Language builds programs. Its own keys live with it.
type Language interface {
	Name() string
	Keys() any // a new struct
	Docs() []string
	// Check holds a program against what it refers to; where is program.NAME.
	Check(ctx context.Context, f *config.Faults, p *Program, where string)
	// Plan completes a build and adds it, or reports what is wrong.
	Plan(c *plan.Context, p *Program, b *plan.Build)
	// Builder makes what was planned in one run.
	Builder(ctx context.Context, s *Shop, builds []*plan.Build) (Builder, error)
}

// Builder makes the builds of one language.
type Builder interface {
	// Prepare finds out what a build depends on; stages are those of what it needs.
	Prepare(ctx context.Context, b *plan.Build, stages Stages) (engine.Work, error)
}

// Program is an executable made for each of its platforms, or what others are
// made from.
type Program struct {
	Name      string
	Language  string           `toml:"language" need:"yes"`
	Source    string           `toml:"source" need:"yes" fill:"@placeholders"`
	Platforms config.Platforms `toml:"platforms" need:"yes"`
	Expect    expect.Expect    `toml:"expect"`
	Own       any              // the language's keys
}

// Building are keys of languages that compile; they embed it.
type Building struct {
	Needs     []string          `toml:"needs" ref:"program"`
	Toolchain string            `toml:"toolchain" ref:"toolchain"`
	Env       map[string]string `toml:"env"`
}

// Shared gives the keys.
func (b *Building) Shared() *Building { return b }

// Compiled are keys of languages that a platform's compiler may be missing for;
// they embed it.
type Compiled struct {
	MissingCompiler string `toml:"missing-compiler" default:"\"stop\"" choice:"stop leave-out"`
}

// CallsCompiler says that a C compiler is called.
func (*Compiled) CallsCompiler() bool { return true }

// LeavesOut says whether platforms without a compiler are left out.
func (c *Compiled) LeavesOut() bool { return c.MissingCompiler == "leave-out" }

// Building are the keys that compiling languages share; of others, empty ones.
func (p *Program) Building() *Building {
	if own, ok := p.Own.(interface{ Shared() *Building }); ok {
		return own.Shared()
	}
	return &Building{}
}

// LeavesOut says whether the program may be left out for a platform that has no
// compiler here, and whether its language asks for one at all.
func (p *Program) LeavesOut() (allowed, asks bool) {
	own, ok := p.Own.(interface{ LeavesOut() bool })
	return ok && own.LeavesOut(), ok
}

// CallsCompiler says whether its builds call a C compiler.
func (p *Program) CallsCompiler() bool {
	own, ok := p.Own.(interface{ CallsCompiler() bool })
	return ok && own.CallsCompiler()
}

// HasStage says whether the program leaves a stage with more than one file.
func (p *Program) HasStage() bool {
	own, ok := p.Own.(interface{ HasStage() bool })
	return ok && own.HasStage()
}

// Placeholders are those of a program's texts.
var Placeholders = []string{"project", "version", "tag", "commit", "os", "arch", "variant", "platform", "program"}

// StagePlaceholders adds those for the stages of what a program needs.
func (p *Program) StagePlaceholders(names []string) []string {
	out := slices.Clone(names)
	for _, n := range p.Building().Needs {
		out = append(out, "stage."+n)
	}
	return out
}

// Programs are those of a description.
func Programs(d *config.Document) []*Program { return config.Named[Program](d, "program") }

// Find gives a program by its name; nil when there is none.
func Find(d *config.Document, name string) *Program {
	for _, p := range Programs(d) {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Table describes [program.NAME].
func Table(ctx context.Context, languages []Language) config.Table {
	t := config.Table{Name: "program", Named: true, Keys: func() any { return &Program{} },
		Docs: []string{docs}, By: "language",
		Lists: map[string][]string{"placeholders": Placeholders}}
	for _, l := range languages {
		t.Alternatives = append(t.Alternatives, config.Alternative{Name: l.Name(), Keys: l.Keys, Docs: l.Docs()})
	}
	t.Check = func(f *config.Faults, d *config.Document) {
		for _, p := range Programs(d) {
			where := "program." + p.Name
			checkNeeds(f, d, p, where)
			i := slices.IndexFunc(languages, func(l Language) bool { return l.Name() == p.Language })
			if i >= 0 && p.Own != nil {
				languages[i].Check(ctx, f, p, where)
			}
		}
		checkCircle(f, d)
	}
	return t
}

// CheckSourceFolder reports a source that is not one folder of the project.
func CheckSourceFolder(f *config.Faults, p *Program, where string) {
	f.Inside(where+".source", p.Source)
	if strings.Contains(p.Source, "{") && f.Given(where+".source") {
		f.Fail(where+".source", "the source folder of a program that is built here is one for all "+
			"platforms: it has no placeholders", "")
	}
}

// CheckTrees reports trees of programs that have none, and paths that leave.
func CheckTrees(f *config.Faults, d *config.Document, trees []config.Tree, where string) {
	for i, t := range trees {
		at := fmt.Sprintf("%s.trees.%d", where, i)
		if p := Find(d, t.Program); p != nil && p.Own != nil && !p.HasStage() {
			f.Fail(at+".program", fmt.Sprintf("%s is one file and has no stage", t.Program),
				"name it in programs instead")
		}
		f.Inside(at+".from", t.From)
		f.Inside(at+".to", t.To)
	}
}

func checkNeeds(f *config.Faults, d *config.Document, p *Program, where string) {
	for i, name := range p.Building().Needs {
		other := Find(d, name)
		if other == nil {
			continue // reported as an unknown name
		}
		var lacking []string
		for _, on := range p.Platforms.List {
			if !slices.Contains(other.Platforms.List, on) {
				lacking = append(lacking, on.String())
			}
		}
		if len(lacking) > 0 {
			f.Fail(fmt.Sprintf("%s.needs.%d", where, i),
				fmt.Sprintf("%s is needed for %s, and it is not made for that", name, strings.Join(lacking, ", ")),
				"add it to \"platforms\" in [program."+name+"]")
		}
	}
}

// checkCircle refuses programs that need each other.
func checkCircle(f *config.Faults, d *config.Document) {
	state := map[string]int{} // 1 on the way, 2 known to be fine
	var visit func(p *Program) bool
	visit = func(p *Program) bool {
		state[p.Name] = 1
		for i, name := range p.Building().Needs {
			other := Find(d, name)
			if other == nil || state[name] == 2 {
				continue
			}
			if state[name] == 1 {
				f.Fail(fmt.Sprintf("program.%s.needs.%d", p.Name, i), fmt.Sprintf("%s and %s need each other",
					p.Name, name), "")
				return false
			}
			if !visit(other) {
				return false
			}
		}
		state[p.Name] = 2
		return true
	}
	for _, p := range Programs(d) {
		if state[p.Name] == 0 && !visit(p) {
			return
		}
	}
}
