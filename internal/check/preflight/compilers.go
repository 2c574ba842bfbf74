package preflight

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
)

// compilersCheck has every C compiler that the plan needs compile a trivial
// program. Toolchains that come as archives are fetched for that.
var compilersCheck = Check{"compilers", func(ctx context.Context, p *Project) []Finding {
	if p.Plan == nil {
		return nil
	}
	var out []Finding
	var tried, good []string
	for _, b := range p.Plan.Builds {
		cxx, static := b.C != nil && b.C.CXX, b.C != nil && b.C.Static
		if key := fmt.Sprint(b.Target, b.Toolchain, cxx, static); !b.Compiler() || slices.Contains(tried, key) {
			continue
		} else {
			tried = append(tried, key)
		}
		if err := tryCompiler(ctx, p, b, cxx, static); err != nil {
			var missing *toolchain.MissingError
			switch {
			case ctx.Err() != nil:
				return failed(ctx.Err())
			case errors.As(err, &missing):
				out = append(out, obstacle(missing.What, missing.Mend)...)
			default:
				out = append(out, obstacle(fmt.Sprintf("%s for %s: %v", b.Names(), b.Target, err), compilerMend(b))...)
			}
			continue
		}
		if !slices.Contains(good, b.Target) {
			good = append(good, b.Target)
		}
	}
	for _, l := range leftOut(p.Plan) {
		out = append(out, advice(l, "install what is named there, or take the platforms out of "+config.FileName)...)
	}
	if len(out) > 0 {
		return out
	}
	if len(good) == 0 {
		return ok("no C is compiled")
	}
	return ok("C compiles for " + platforms(good))
}}

func tryCompiler(ctx context.Context, p *Project, b plan.Build, cxx, static bool) error {
	cc, err := p.Finder.Find(ctx, b.Platform, b.Toolchain, true)
	if err != nil {
		return err
	}
	if err := lang.TryC(ctx, cc, cxx, static); err != nil {
		return fmt.Errorf("a trivial program does not compile with %s:\n%w", cc.Tools["cc"], err)
	}
	return nil
}

func compilerMend(b plan.Build) string {
	if b.Toolchain != "" {
		return "correct [toolchain." + b.Toolchain + "] in " + config.FileName
	}
	packages := toolchain.Packages(b.Platform, b.C != nil && b.C.CXX)
	if len(packages) == 0 {
		return "describe a compiler with [toolchain.NAME] in " + config.FileName
	}
	return "on Debian: apt-get install --reinstall " + strings.Join(packages, " ")
}

// leftOut says in a line for each program what is not made.
func leftOut(p *plan.Plan) []string {
	var out []string
	for _, l := range p.LeftOut {
		out = append(out, fmt.Sprintf("%s is left out for %s: %s", l.Program, l.Platform, l.Why))
	}
	return out
}
