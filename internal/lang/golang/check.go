package golang

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"piedmont/internal/base/fault"
	"piedmont/internal/check"
	"piedmont/internal/plan"
)

// PreflightCheck has the Go toolchain compile a trivial program for every platform, and
// holds it against each module's go.mod.
func (l Language) PreflightCheck() check.Check {
	return check.Check{Name: "toolchain", Run: l.preflight}
}

func (l Language) preflight(ctx context.Context, p *check.Project) []check.Finding {
	if p.Plan == nil {
		return nil
	}
	var builds []*plan.Build
	for _, b := range p.Plan.Builds {
		if _, ok := b.Job.(*Build); ok {
			builds = append(builds, b)
		}
	}
	if len(builds) == 0 {
		return check.Fine("no Go is compiled")
	}
	version, out := l.modules(ctx, p, builds)
	if len(out) > 0 {
		return out
	}
	var targets []string
	for _, b := range builds {
		if slices.Contains(targets, b.Target) {
			continue
		}
		targets = append(targets, b.Target)
		if err := l.Tools.Try(ctx, filepath.Join(p.Doc.Dir, b.Dir), b.Platform); err != nil {
			out = append(out, check.Stops(fmt.Sprintf("a trivial program does not compile for %s: %v", b.Target, err),
				"see what is missing with: go env; leave the platform out if it cannot be made here")...)
		}
	}
	if len(out) > 0 {
		return out
	}
	return check.Fine(fmt.Sprintf("%s compiles for %s", version, check.Platforms(targets)))
}

// modules holds the toolchain against the go.mod of every module.
func (l Language) modules(ctx context.Context, p *check.Project, builds []*plan.Build) (version string,
	out []check.Finding) {
	var dirs []string
	for _, b := range builds {
		if slices.Contains(dirs, b.Dir) {
			continue
		}
		dirs = append(dirs, b.Dir)
		dir := filepath.Join(p.Doc.Dir, b.Dir)
		t, err := l.Tools.Find(ctx, dir)
		if err == nil {
			err = t.CheckModule(dir)
		}
		switch {
		case errors.Is(err, ErrNoGo):
			what, fix := fault.Parts(err)
			return "", check.Stops(what, fix)
		case err != nil:
			// Such as a go.mod that wants a newer Go than may be used here.
			out = append(out, check.Stops(err.Error(), "install the Go version that "+filepath.Join(b.Dir, "go.mod")+
				" asks for, or let Go fetch it: go env -w GOTOOLCHAIN=auto")...)
		default:
			version = t.Version
		}
	}
	return version, out
}
