package outbox

import (
	"context"
	"encoding/json"
	"fmt"

	"piedmont/internal/config"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// Record plans the two files that say what a release has. It is the last of the
// parts; the outbox makes the files itself, when all else is there.
type Record struct{}

// Table is none.
func (Record) Table() config.Table { return config.Table{} }

// Plan plans the manifest and the checksums.
func (Record) Plan(c *plan.Context) {
	c.Add(&release.Artifact{Name: release.Name, Kind: release.KindManifest, MadeFrom: "every file"})
	c.Add(&release.Artifact{Name: release.SumsName, Kind: release.KindSums, MadeFrom: "every file"})
}

// recordStep is the id of the step that writes the manifest and the checksums.
const recordStep = "record"

// record makes the manifest, and keeps it for what comes after.
type record struct {
	plan     *plan.Plan
	env      *work.Env
	manifest *release.Manifest
	encoded  []byte
}

// names are those of the files that the manifest lists.
func (r *record) names() []string {
	var out []string
	for _, a := range r.plan.Artifacts {
		if a.Kind != release.KindManifest && a.Kind != release.KindSums {
			out = append(out, a.Name)
		}
	}
	return out
}

func (r *record) step() *engine.Step {
	var needs []string
	for _, name := range r.names() {
		needs = append(needs, work.Packed(name))
	}
	return &engine.Step{ID: recordStep, Title: "write the manifest and checksums", Needs: needs,
		Prepare: func(_ context.Context, in engine.Inputs) (engine.Work, error) {
			m, err := r.fill(in)
			if err != nil {
				return engine.Work{}, err
			}
			r.manifest = m
			r.encoded, err = m.Encode()
			return engine.Work{Key: "record/1 " + string(r.encoded), Run: r.write}, err
		}}
}

// fill completes the planned files with what was made.
func (r *record) fill(in engine.Inputs) (*release.Manifest, error) {
	p := r.plan
	m := &release.Manifest{Format: release.Format, Project: p.Project, Version: p.Version, Preview: p.Preview,
		Tag: p.Tag, Commit: p.Commit}
	if p.Preview {
		m.Tag = ""
	}
	for _, a := range p.Artifacts {
		if a.Kind == release.KindManifest || a.Kind == release.KindSums {
			continue
		}
		o, ok := work.Find(in[work.Packed(a.Name)], a.Name)
		if !ok {
			return nil, fmt.Errorf("%s was planned and not made", a.Name)
		}
		a.Size, a.SHA256, a.SHA512 = o.Size, o.SHA256, o.SHA512
		if len(o.Extra) > 0 {
			a.Holds = nil
			if err := json.Unmarshal(o.Extra, &a.Holds); err != nil {
				return nil, fmt.Errorf("what %s holds: %w", a.Name, err)
			}
		}
		m.Files = append(m.Files, *a)
	}
	return m, nil
}

func (r *record) write(ctx context.Context) ([]store.Object, error) {
	list, err := r.env.Put(ctx, release.Name, r.encoded)
	if err != nil {
		return nil, err
	}
	sums, err := r.env.Put(ctx, release.SumsName, r.manifest.Sums(r.encoded))
	return []store.Object{list, sums}, err
}
