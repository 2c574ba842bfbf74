// Package notes is notes.md: what a release brings.
package notes

import (
	"context"

	"piedmont/internal/config"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
	"piedmont/internal/release"
	"piedmont/internal/site"
)

// Name is the file's.
const Name = "notes.md"

// Part plans and makes the notes. No table asks for them: every release has some.
type Part struct{}

// Table is none.
func (Part) Table() config.Table { return config.Table{} }

// Plan plans the file. A release of notes alone is none.
func (Part) Plan(c *plan.Context) {
	if len(c.Plan.Artifacts) == 0 {
		c.Fail("nothing would be made: describe a [bundle.NAME] or [source] in %s", config.FileName)
	}
	c.Add(&release.Artifact{Name: Name, Kind: release.KindNotes, MediaType: "text/markdown", MadeFrom: "the commits"})
}

// Steps write what the plan says of the release.
func (Part) Steps(_ context.Context, pl *plan.Plan, env *work.Env) ([]*engine.Step, error) {
	return []*engine.Step{{ID: work.Packed(Name), Title: "write " + Name,
		Prepare: func(context.Context, engine.Inputs) (engine.Work, error) {
			return engine.Work{Key: "notes/1 " + pl.Notes, Run: func(ctx context.Context) ([]store.Object, error) {
				o, err := env.Put(ctx, Name, []byte(pl.Notes))
				return []store.Object{o}, err
			}}, nil
		}}}, nil
}

// Present hides the notes from the downloads: a page shows what they say.
func (Part) Present(f release.Artifact, p site.Placement) site.Placement {
	p.Hidden = p.Hidden || f.Kind == release.KindNotes
	return p
}
