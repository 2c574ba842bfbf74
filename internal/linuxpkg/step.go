package linuxpkg

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// Steps are those that pack.
func (p Part) Steps(_ context.Context, pl *plan.Plan, env *work.Env) ([]*engine.Step, error) {
	var steps []*engine.Step
	for _, a := range pl.Artifacts {
		if planned, ok := a.Detail.(*Planned); ok {
			steps = append(steps, step(a, planned, env))
		}
	}
	return steps, nil
}

func step(a *release.Artifact, planned *Planned, env *work.Env) *engine.Step {
	return &engine.Step{ID: work.Packed(a.Name), Title: "pack " + a.Name, Needs: work.Waits(a.Entries),
		Prepare: func(ctx context.Context, in engine.Inputs) (engine.Work, error) {
			entries, err := env.Entries(ctx, in, a.Entries, "package."+a.From)
			if err != nil {
				return engine.Work{}, err
			}
			about, err := planned.resolve(entries)
			if err != nil {
				return engine.Work{}, err
			}
			holds := holdings(a.Entries, entries)
			bare := *about
			bare.Files = nil // they are in what it holds
			key, err := json.Marshal([]any{archive.Version, "package/3", planned.Format, env.Effort, a.Name,
				planned.Compression, bare, planned.Entries, holds})
			return engine.Work{Key: string(key), Run: func(ctx context.Context) ([]store.Object, error) {
				return env.Holding(ctx, a.Name, func(w io.Writer) ([]release.Entry, error) {
					return holds, about.Format.Write(ctx, w, about, planned.Compression, env.Packing())
				})
			}}, err
		}}
}

// resolve completes a package with its files, and what their programs need.
func (p *Planned) resolve(entries []release.Entry) (*Package, error) {
	about := *p.about
	about.Files = slices.Clone(entries)
	slices.SortFunc(about.Files, func(a, b release.Entry) int { return strings.Compare(a.Path, b.Path) })
	var programs []*exe.Info
	for i, f := range about.Files {
		if i > 0 && f.Path == about.Files[i-1].Path {
			return nil, fmt.Errorf("two files of the package would be /%s", f.Path)
		}
	}
	for _, f := range entries {
		if f.Binary != nil {
			programs = append(programs, f.Binary)
		}
	}
	if p.AutoNeeds {
		found, err := about.Format.Needs(programs)
		if err != nil {
			return nil, fmt.Errorf("[package.%s] needs \"auto\": %w", p.Table, err)
		}
		about.Needs = append(slices.Clone(about.Needs), found...)
	}
	return &about, nil
}

// holdings are what the manifest records of the package: paths as on a system.
func holdings(planned, entries []release.Entry) []release.Entry {
	declared := map[string]bool{}
	for _, e := range planned {
		declared[e.Path] = e.Mode.IsDir()
	}
	var out []release.Entry
	for _, e := range entries {
		if e.Mode.IsDir() && !declared[e.Path] {
			continue
		}
		e.Path = "/" + e.Path
		if e.Mode.IsDir() {
			e.Path += "/"
		}
		e.From = release.Origin{}
		out = append(out, e)
	}
	return out
}
