// Package outbox makes what a plan says: it runs the steps of every maker and lays
// the finished files into outbox/<version>, which appears whole.
package outbox

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fileio"
	"piedmont/internal/base/progress"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/inputs"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/release"
)

// Maker gives the steps for what it has planned. The step that makes a file of the
// release has the id work.Packed of its name.
type Maker interface {
	Steps(ctx context.Context, p *plan.Plan, env *work.Env) ([]*engine.Step, error)
}

// recordAge is how long unused work stays in the store.
const recordAge = 30 * 24 * time.Hour

// Options say how to make a plan's files.
type Options struct {
	Root    string // the project's folder
	Jobs    int
	Makers  []Maker
	Command string // what is run, for others that wait; without words that may be secret
	NoWait  bool   // give a HeldError when another run works in the project
	Env     environ.Env
	Events  progress.Sink
}

// Result is what was made.
type Result struct {
	Dir       string // outbox/<version>, absolute
	Version   string
	Manifest  *release.Manifest
	Encoded   []byte // the manifest as it is in the folder
	Unchanged bool   // everything was there already
	Took      time.Duration
}

// Dir is the folder of a version in the outbox.
func Dir(root, version string) string { return filepath.Join(root, release.OutboxDir, version) }

// Make fills the outbox.
func Make(ctx context.Context, p *plan.Plan, o Options) (*Result, error) {
	start := time.Now()
	dir := filepath.Join(o.Root, release.WorkDir)
	for _, own := range []string{dir, filepath.Join(o.Root, release.OutboxDir)} {
		if err := ownFolder(own); err != nil {
			return nil, err
		}
	}
	free, err := lock(ctx, dir, o)
	if err != nil {
		return nil, err
	}
	defer free()
	st, err := store.Open(filepath.Join(dir, "store"))
	if err != nil {
		return nil, err
	}
	if err := st.ClearTemporary(); err != nil {
		return nil, fmt.Errorf("clear what an earlier run left: %w", err)
	}
	env := &work.Env{Root: o.Root, Dir: dir, Jobs: o.Jobs, Effort: p.Effort, Version: p.Version,
		Time: p.Commit.Time, Store: st,
		Inputs: inputs.New(filepath.Join(dir, "inputs.json"), dir, filepath.Join(o.Root, release.OutboxDir)),
		Repo:   git.Repo{Dir: o.Root, Env: o.Env}, Env: o.Env, Events: o.Events}
	env.Packages = slices.ContainsFunc(p.Artifacts, func(a *release.Artifact) bool { return a.Package != nil })
	res, err := run(ctx, p, env, o)
	if err != nil {
		return nil, err
	}
	if err := st.Prune(recordAge, time.Now()); err != nil {
		return nil, fmt.Errorf("tidy the store: %w", err)
	}
	res.Took = time.Since(start)
	return res, nil
}

func run(ctx context.Context, p *plan.Plan, env *work.Env, o Options) (*Result, error) {
	var steps []*engine.Step
	for _, m := range o.Makers {
		more, err := m.Steps(ctx, p, env)
		if err != nil {
			return nil, err
		}
		steps = append(steps, more...)
	}
	r := record{plan: p, env: env}
	steps = append(steps, r.step())
	outputs, err := engine.Run(ctx, steps, engine.Options{Jobs: o.Jobs, Store: env.Store, Events: o.Events})
	if saveErr := env.Inputs.Save(); err == nil {
		err = saveErr
	}
	if err != nil {
		return nil, err
	}
	var files []store.Object
	for _, name := range r.names() {
		files = append(files, outputs[work.Packed(name)]...)
	}
	files = append(files, outputs[recordStep]...)
	res := &Result{Dir: Dir(o.Root, p.Version), Version: p.Version, Manifest: r.manifest, Encoded: r.encoded}
	res.Unchanged, err = lay(ctx, env.Store, res.Dir, files)
	return res, err
}

// ownFolder makes a folder that git does not see.
func ownFolder(dir string) error {
	err := os.MkdirAll(dir, 0o755)
	ignore := filepath.Join(dir, ".gitignore")
	if err == nil {
		if _, statErr := os.Stat(ignore); errors.Is(statErr, os.ErrNotExist) {
			err = fileio.Write(ignore, []byte("*\n"), 0o644)
		}
	}
	if err != nil {
		return fmt.Errorf("%s must be writable: %w", dir, err)
	}
	return nil
}
