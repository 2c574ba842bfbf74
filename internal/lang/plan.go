package lang

import (
	"context"
	"slices"
	"strings"

	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
)

// Part plans and makes programs.
type Part struct {
	Ctx       context.Context // of what is asked of toolchains while a description is read
	Languages []Language
	Finder    func() *toolchain.Finder
}

// Table describes [program.NAME].
func (p *Part) Table() config.Table { return Table(p.Ctx, p.Languages) }

func (p *Part) language(name string) Language {
	for _, l := range p.Languages {
		if l.Name() == name {
			return l
		}
	}
	return nil
}

// CompilerOf names the compiler of a program's own language; "" where there is none
// but a C compiler.
func (p *Part) CompilerOf(ctx context.Context, root string, prog *Program) (string, error) {
	l, ok := p.language(prog.Language).(interface {
		CompilerOf(ctx context.Context, root string, p *Program) (string, error)
	})
	if !ok {
		return "", nil
	}
	return l.CompilerOf(ctx, root, prog)
}

// Plan plans the programs in the order in which they need each other.
func (p *Part) Plan(c *plan.Context) {
	for _, prog := range inOrder(Programs(c.Doc)) {
		for _, on := range prog.Platforms.List {
			if leaveOut(c, prog, on) {
				continue
			}
			shared := prog.Building()
			b := &plan.Build{Language: prog.Language, Platform: on, Target: on.String(),
				Toolchain: shared.Toolchain, Env: environment(c, prog, on)}
			for _, need := range shared.Needs {
				if other, _, ok := c.Plan.Build(need, on); ok {
					b.Needs = append(b.Needs, plan.Need{Program: need, Build: other.ID})
				}
			}
			p.language(prog.Language).Plan(c, prog, b)
		}
	}
}

// Steps are those that build and examine.
func (p *Part) Steps(ctx context.Context, pl *plan.Plan, env *work.Env) ([]*engine.Step, error) {
	s := newShop(env, p.Finder())
	builders := map[string]Builder{}
	var steps []*engine.Step
	for _, b := range pl.Builds {
		if builders[b.Language] == nil {
			made, err := p.language(b.Language).Builder(ctx, s, pl.Builds)
			if err != nil {
				return nil, err
			}
			builders[b.Language] = made
		}
		steps = append(steps, s.build(builders[b.Language], b), examine(b))
	}
	return steps, nil
}

// inOrder puts what is needed before what needs it, and else keeps the order.
// The description has no circles.
func inOrder(list []*Program) []*Program {
	var out []*Program
	var visit func(p *Program)
	visit = func(p *Program) {
		if slices.Contains(out, p) {
			return
		}
		for _, need := range p.Building().Needs {
			if i := slices.IndexFunc(list, func(o *Program) bool { return o.Name == need }); i >= 0 {
				visit(list[i])
			}
		}
		out = append(out, p)
	}
	for _, p := range list {
		visit(p)
	}
	return out
}

// leaveOut says whether a program is not made for a platform because this
// machine cannot, and that was allowed.
func leaveOut(c *plan.Context, prog *Program, on platform.Platform) bool {
	allowed, asks := prog.LeavesOut()
	for _, need := range prog.Building().Needs {
		if c.Left(need, on) {
			if !allowed {
				c.Fail("program %q needs %q, which is left out for %s; set missing-compiler = \"leave-out\" "+
					"in [program.%s] too", prog.Name, need, on, prog.Name)
			}
			c.Leave(prog.Name, on, "it needs "+need+", which is left out")
			return true
		}
	}
	if !allowed || !asks || c.Compiler == nil {
		return false
	}
	if err := c.Compiler(on, prog.Building().Toolchain); err != nil {
		c.Leave(prog.Name, on, strings.ReplaceAll(err.Error(), "\n", ": "))
		return true
	}
	return false
}

// Values are the placeholders of a program's texts.
func Values(c *plan.Context, prog *Program, on platform.Platform) placeholder.Values {
	v := c.PlatformValues(on)
	v["platform"], v["program"] = on.String(), prog.Name
	return v
}

// AtRunTime are placeholders that stay for those who run the commands.
var AtRunTime = []string{"stage", "work", "triplet", "jobs"}

// LaterValues leave what is known only when a build runs.
func LaterValues(c *plan.Context, prog *Program, on platform.Platform) placeholder.Values {
	v := Values(c, prog, on)
	for _, name := range AtRunTime {
		v[name] = "{" + name + "}"
	}
	for _, need := range prog.Building().Needs {
		v["stage."+need] = "{stage." + need + "}"
	}
	return v
}

// environment is that which a program declares, sorted.
func environment(c *plan.Context, prog *Program, on platform.Platform) []string {
	v := LaterValues(c, prog, on)
	var out []string
	for key, text := range prog.Building().Env {
		out = append(out, key+"="+c.Fill(text, v))
	}
	slices.Sort(out)
	return out
}

// PlatformsOf are those that a program is made for in a plan.
func PlatformsOf(c *plan.Context, name string) []platform.Platform {
	p := Find(c.Doc, name)
	if p == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(p.Platforms.List),
		func(on platform.Platform) bool { return c.Left(name, on) })
}

// Holding is what an archive or a package takes of programs.
type Holding struct {
	Owner     plan.Owner
	Programs  []string
	Trees     []config.Tree
	Platforms config.Platforms // that were chosen
}

// CommonPlatforms are those that all programs have, in the order of the first;
// none at all for what holds files only. It is false when there is nothing to make.
func (h Holding) CommonPlatforms(c *plan.Context) ([]platform.Platform, bool) {
	programs := slices.Clone(h.Programs)
	for _, t := range h.Trees {
		programs = append(programs, t.Program)
	}
	list, chosen := h.Platforms.List, len(h.Platforms.Given) > 0
	if !chosen {
		if len(programs) == 0 {
			return nil, true
		}
		list = PlatformsOf(c, programs[0])
	}
	var out []platform.Platform
	someLeft := slices.ContainsFunc(programs, func(name string) bool {
		return len(PlatformsOf(c, name)) < len(Find(c.Doc, name).Platforms.List)
	})
	for _, on := range list {
		all, left := true, false
		for _, name := range programs {
			all = all && slices.Contains(PlatformsOf(c, name), on)
			left = left || c.Left(name, on)
		}
		switch {
		case all:
			out = append(out, on)
		case left:
			someLeft = true
		case chosen:
			c.Fail("%s: not all of its programs are made for %s; change \"platforms\" in [%s]", h.Owner, on,
				h.Owner.Table())
		}
	}
	if len(out) == 0 && !someLeft {
		c.Fail("%s: its programs %s have no platform in common", h.Owner, strings.Join(programs, ", "))
	}
	return out, len(out) > 0
}

// Output finds what is packed of a program for a platform; false when there is
// nothing, which was reported.
func (h Holding) Output(c *plan.Context, program string, on platform.Platform) (*plan.Build, plan.Output, bool) {
	build, out, ok := c.Plan.Build(program, on)
	if ok && out.File == "" {
		c.FailOnce("%s: the program %s has no single file; say which with \"file\" in [program.%s], or pack "+
			"all of it with \"trees\"", h.Owner, program, program)
		return nil, out, false
	}
	return build, out, ok
}
