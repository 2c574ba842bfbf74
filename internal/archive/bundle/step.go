package bundle

import (
	"context"
	"encoding/json"

	"piedmont/internal/format/archive"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// Steps are those that pack.
func (p Part) Steps(_ context.Context, pl *plan.Plan, env *work.Env) ([]*engine.Step, error) {
	var steps []*engine.Step
	for _, a := range pl.Artifacts {
		if detail, ok := a.Detail.(*Archive); ok {
			steps = append(steps, p.step(a, p.format(detail.Format), env))
		}
	}
	return steps, nil
}

func (p Part) step(a *release.Artifact, f archive.Format, env *work.Env) *engine.Step {
	return &engine.Step{ID: work.Packed(a.Name), Title: "pack " + a.Name, Needs: work.Waits(a.Entries),
		Prepare: func(ctx context.Context, in engine.Inputs) (engine.Work, error) {
			entries, err := env.Entries(ctx, in, a.Entries, "bundle."+a.From)
			if err != nil {
				return engine.Work{}, err
			}
			key, err := json.Marshal([]any{archive.Version, env.Effort, a.Name, f.Name(), env.Time, entries})
			return engine.Work{Key: string(key), Run: env.Archive(a.Name, f, entries)}, err
		}}
}
