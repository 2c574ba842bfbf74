package cc

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
	"piedmont/internal/check"
	"piedmont/internal/config"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
)

// Compilers has every C compiler that a plan needs, for whatever language, compile
// a trivial program. Toolchains that come as archives are fetched for that.
type Compilers struct {
	Finder func() *toolchain.Finder
	Env    environ.Env
}

// PreflightCheck is the check.
func (c Compilers) PreflightCheck() check.Check {
	return check.Check{Name: "compilers", Run: c.preflight}
}

func (c Compilers) preflight(ctx context.Context, p *check.Project) []check.Finding {
	if p.Plan == nil {
		return nil
	}
	var out []check.Finding
	var tried, good []string
	for _, b := range p.Plan.Builds {
		need := b.Job.Compiler()
		if need == nil {
			continue
		}
		key := fmt.Sprint(b.Target, b.Toolchain, *need)
		if slices.Contains(tried, key) {
			continue
		}
		tried = append(tried, key)
		err := c.try(ctx, b, *need)
		switch {
		case ctx.Err() != nil:
			return check.Failed(ctx.Err())
		case errors.Is(err, toolchain.ErrMissing):
			what, fix := fault.Parts(err)
			out = append(out, check.Stops(what, fix)...)
		case err != nil:
			out = append(out, check.Stops(fmt.Sprintf("%s for %s: %v", b.Names(), b.Target, err), mend(b, *need))...)
		case !slices.Contains(good, b.Target):
			good = append(good, b.Target)
		}
	}
	for _, l := range p.Plan.LeftOut {
		out = append(out, check.Advises(fmt.Sprintf("%s is left out for %s: %s", l.Program, l.Platform, l.Why),
			"install what is named there, or take the platforms out of "+config.FileName)...)
	}
	if len(out) > 0 {
		return out
	}
	if len(good) == 0 {
		return check.Fine("no C is compiled")
	}
	return check.Fine("C compiles for " + check.Platforms(good))
}

func (c Compilers) try(ctx context.Context, b *plan.Build, need plan.CompilerNeed) error {
	cc, err := c.Finder().Find(ctx, b.Platform, toolchain.Options{Name: b.Toolchain, Fetch: true})
	if err != nil {
		return err
	}
	if err := Try(ctx, c.Env, cc, need); err != nil {
		return fmt.Errorf("a trivial program does not compile with %s:\n%w", cc.Tools["cc"], err)
	}
	return nil
}

func mend(b *plan.Build, need plan.CompilerNeed) string {
	if b.Toolchain != "" {
		return "correct [toolchain." + b.Toolchain + "] in " + config.FileName
	}
	packages := toolchain.Packages(b.Platform, need.CXX)
	if len(packages) == 0 {
		return "describe a compiler with [toolchain.NAME] in " + config.FileName
	}
	return "on Debian: apt-get install --reinstall " + strings.Join(packages, " ")
}
