// Package outbox makes what a plan says: it turns the plan into steps, runs
// them, and lays the finished files into outbox/<version>, which appears whole.
package outbox

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/base/progress"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/release"
)

// Names of the two folders in a project that Piedmont writes.
const (
	Name    = "outbox"
	WorkDir = ".piedmont"
)

// recordAge is how long unused work stays in the store.
const recordAge = 30 * 24 * time.Hour

// Options say how to make a plan's files.
type Options struct {
	Root   string // the project's folder
	Jobs   int
	Tools  *lang.Tools
	Finder *toolchain.Finder
	NoWait bool // give a HeldError when another run works in the project
	Events progress.Sink
}

// Result is what was made.
type Result struct {
	Dir       string // outbox/<version>, absolute
	Version   string
	Manifest  *release.Manifest
	Unchanged bool // everything was there already
	Took      time.Duration
}

// Dir is the folder of a version in the outbox.
func Dir(root, version string) string { return filepath.Join(root, Name, version) }

// Make fills the outbox.
func Make(ctx context.Context, p *plan.Plan, o Options) (*Result, error) {
	start := time.Now()
	work := filepath.Join(o.Root, WorkDir)
	for _, dir := range []string{work, filepath.Join(o.Root, Name)} {
		if err := ownFolder(dir); err != nil {
			return nil, err
		}
	}
	release, err := lock(ctx, work, !o.NoWait, o.Events)
	if err != nil {
		return nil, err
	}
	defer release()
	st, err := store.Open(filepath.Join(work, "store"))
	if err != nil {
		return nil, err
	}
	if err := st.ClearTemporary(); err != nil {
		return nil, fmt.Errorf("clear what an earlier run left: %w", err)
	}
	in := lang.NewInputs(filepath.Join(work, "inputs.json"), work, filepath.Join(o.Root, Name))
	finder := o.Finder
	golang, err := lang.NewGo(ctx, o.Tools, o.Root, p.Builds, o.Jobs, in, finder)
	if err != nil {
		return nil, err
	}
	m := &maker{plan: p, o: o, store: st, inputs: in, golang: golang, finder: finder,
		c:      lang.NewC(lang.C{Root: o.Root, Work: work, Finder: finder, Inputs: in, Time: p.Commit.Time, Events: o.Events}, o.Jobs),
		run:    &lang.Command{Root: o.Root, Jobs: o.Jobs, Finder: finder, Inputs: in, Time: p.Commit.Time, Files: git.Repo{Dir: o.Root}.Files},
		taken:  &lang.Prebuilt{Root: o.Root, Inputs: in},
		stages: &stages{dir: filepath.Join(work, "stages"), store: st}}
	outputs, err := engine.Run(ctx, m.steps(), engine.Options{Jobs: o.Jobs, Store: st, Events: o.Events})
	if saveErr := in.Save(); err == nil {
		err = saveErr
	}
	if err != nil {
		return nil, err
	}
	res := &Result{Dir: Dir(o.Root, p.Version), Version: p.Version}
	if res.Manifest, err = m.read(outputs[recordStep]); err != nil {
		return nil, err
	}
	if res.Unchanged, err = m.lay(ctx, res.Dir, outputs); err != nil {
		return nil, err
	}
	if err := st.Prune(recordAge, time.Now()); err != nil {
		return nil, fmt.Errorf("tidy the store: %w", err)
	}
	res.Took = time.Since(start)
	return res, nil
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

// lay puts the files into the version's folder, in one step. Where exactly
// these files are there already, it changes nothing.
func (m *maker) lay(ctx context.Context, dir string, outputs engine.Inputs) (unchanged bool, err error) {
	var files []store.Object
	for _, id := range m.finals {
		files = append(files, outputs[id]...)
	}
	if m.laid(dir, files) {
		return true, nil
	}
	tmp, err := m.store.TempDir()
	if err != nil {
		return false, fmt.Errorf("lay out the outbox: %w", err)
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	next := filepath.Join(tmp, "next")
	if err := os.Mkdir(next, 0o755); err != nil {
		return false, fmt.Errorf("lay out the outbox: %w", err)
	}
	for _, f := range files {
		if err := fileio.Link(m.store.Path(f), filepath.Join(next, f.Name)); err != nil {
			return false, fmt.Errorf("lay out the outbox: %w", err)
		}
	}
	if err := fileio.SyncDir(next); err != nil {
		return false, fmt.Errorf("lay out the outbox: %w", err)
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	if err := fileio.ReplaceDir(next, dir, tmp); err != nil {
		return false, fmt.Errorf("lay out the outbox: %w", err)
	}
	return false, nil
}

func (m *maker) laid(dir string, files []store.Object) bool {
	entries, err := os.ReadDir(dir)
	// What trials found out does not make other files of these.
	entries = slices.DeleteFunc(entries, func(e os.DirEntry) bool { return e.Name() == release.TrialsName })
	if err != nil || len(entries) != len(files) {
		return false
	}
	for _, f := range files {
		have, err := os.Stat(filepath.Join(dir, f.Name))
		if err != nil {
			return false
		}
		kept, err := os.Stat(m.store.Path(f))
		if err != nil || !os.SameFile(have, kept) || !m.store.Intact(f) {
			return false
		}
	}
	return true
}
