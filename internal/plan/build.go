package plan

import (
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/check/expect"
)

// Build makes programs for one platform: one run of a compiler for all that it
// can make at once, or one program.
type Build struct {
	ID        string
	Language  string
	Verb      string // what it does: compile, build, take
	Platform  platform.Platform
	Target    string // the platform as it is written
	Dir       string // where it runs, relative to the root
	Programs  []Output
	Needs     []Need
	Toolchain string // [toolchain.NAME] that it asks for
	Env       []string
	Job       Job // what the language has planned
}

// Job is what a language plans for a build; its JSON stands under the language's
// name.
type Job interface {
	// Compiler says what the build needs of a C compiler; nil when it calls none.
	Compiler() *CompilerNeed
	// Stage says whether all that is left in the stage is kept, and not the named
	// programs alone.
	Stage() bool
	// Executable says whether the programs are executables, so that something can
	// be expected of them.
	Executable() bool
	// Detail is what the plan tells of it in a few words, "" for nothing.
	Detail() string
}

// CompilerNeed is what a build needs of a C compiler.
type CompilerNeed struct{ CXX, Static bool }

// Names joins the names of its programs.
func (b *Build) Names() string {
	names := make([]string, len(b.Programs))
	for i, p := range b.Programs {
		names[i] = p.Program
	}
	return strings.Join(names, ", ")
}

// Need is a program that must be made before, with the build that makes it.
type Need struct {
	Program string `json:"program"`
	Build   string `json:"build"`
}

// Output is one program that a build makes.
type Output struct {
	Program string `json:"program"`
	Package string `json:"package,omitempty"` // of Go, relative to Build.Dir
	// with the platform's ending; of a stage its path; "" when there is none
	File   string        `json:"file"`
	Expect expect.Expect `json:"expect,omitzero"`
}

// LeftOut is a program that is not made for a platform, and why.
type LeftOut struct {
	Program  string `json:"program"`
	Platform string `json:"platform"`
	Why      string `json:"why"`
}

// AddBuild plans a build. Its id is what it does for which platform, with the
// program where that is not enough.
func (c *Context) AddBuild(verb string, b *Build) {
	b.Verb, b.Target = verb, b.Platform.String()
	b.ID = verb + " " + b.Target
	if slices.ContainsFunc(c.Plan.Builds, func(o *Build) bool { return o.ID == b.ID }) {
		b.ID += " " + b.Programs[0].Program
	}
	c.Plan.Builds = append(c.Plan.Builds, b)
}

// Leave leaves a program out for a platform.
func (c *Context) Leave(program string, on platform.Platform, why string) {
	c.left[program+" "+on.String()] = true
	c.Plan.LeftOut = append(c.Plan.LeftOut, LeftOut{program, on.String(), why})
}

// Left says whether a program is left out for a platform.
func (c *Context) Left(program string, on platform.Platform) bool {
	return c.left[program+" "+on.String()]
}

// Build finds the build that makes a program for a platform.
func (p *Plan) Build(program string, on platform.Platform) (*Build, Output, bool) {
	for _, b := range p.Builds {
		if b.Platform != on {
			continue
		}
		for _, o := range b.Programs {
			if o.Program == program {
				return b, o, true
			}
		}
	}
	return nil, Output{}, false
}
