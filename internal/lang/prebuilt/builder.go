package prebuilt

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"

	"piedmont/internal/lang"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
)

type builder struct{ *lang.Shop }

// Builder makes one for a run.
func (Language) Builder(_ context.Context, s *lang.Shop, _ []*plan.Build) (lang.Builder, error) {
	return &builder{s}, nil
}

// Prepare takes the file's digest. One that was declared and does not match is an
// error.
func (p *builder) Prepare(ctx context.Context, b *plan.Build, _ lang.Stages) (engine.Work, error) {
	job := b.Job.(*Build)
	path := filepath.Join(p.Root, filepath.FromSlash(job.File))
	sum, _, err := p.Inputs.File(ctx, path)
	if err != nil {
		return engine.Work{}, fmt.Errorf("read %s: %w", job.File, err)
	}
	if job.SHA256 != "" && sum != job.SHA256 {
		return engine.Work{}, fmt.Errorf("%s is another file than was declared: its SHA-256 is %s, and "+
			"digest in [program.%s] says %s",
			job.File, sum, b.Programs[0].Program, job.SHA256)
	}
	key, err := json.Marshal([]any{"prebuilt/1", b.Target, b.Programs, sum})
	return engine.Work{Key: string(key), Run: func(ctx context.Context) ([]store.Object, error) {
		o, err := p.KeepProgram(ctx, b, path, b.Programs[0].File)
		if err == nil && o.SHA256 != sum {
			err = work.NotItsDigest(path)
		}
		return []store.Object{o}, err
	}}, err
}
