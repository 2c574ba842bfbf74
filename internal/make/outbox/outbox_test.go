package outbox

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"piedmont/internal/base/progress"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// writer makes files of these contents, or fails.
type writer struct {
	files map[string]string
	err   error
}

// Steps are one for each file.
func (w writer) Steps(_ context.Context, p *plan.Plan, env *work.Env) ([]*engine.Step, error) {
	var steps []*engine.Step
	for _, a := range p.Artifacts {
		content, ok := w.files[a.Name]
		if !ok {
			continue
		}
		steps = append(steps, &engine.Step{ID: work.Packed(a.Name), Title: "write " + a.Name,
			Prepare: func(context.Context, engine.Inputs) (engine.Work, error) {
				return engine.Work{Key: a.Name + content, Run: func(ctx context.Context) ([]store.Object, error) {
					if w.err != nil {
						return nil, w.err
					}
					o, err := env.Put(ctx, a.Name, []byte(content))
					return []store.Object{o}, err
				}}, nil
			}})
	}
	return steps, nil
}

func planOf(files map[string]string) *plan.Plan {
	p := &plan.Plan{Project: release.Project{Name: "bell"}, Version: "1.0.0", Tag: "v1.0.0", Effort: "normal",
		Commit: release.Commit{ID: strings.Repeat("ab", 20), Time: time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)}}
	for name := range files {
		p.Artifacts = append(p.Artifacts, &release.Artifact{Name: name, Kind: "bundle", MediaType: "text/plain"})
	}
	return p
}

func options(root string, w writer) Options {
	return Options{Root: root, Jobs: 2, Makers: []Maker{w}, Events: progress.Discard{},
		Command: "piedmont make", NoWait: true}
}

func read(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func TestMake(t *testing.T) {
	root := t.TempDir()
	files := map[string]string{"a.txt": "ring", "b.txt": "peal"}
	res, err := Make(t.Context(), planOf(files), options(root, writer{files: files}))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range files {
		if got := read(t, filepath.Join(res.Dir, name)); got != want {
			t.Errorf("%s: %q", name, got)
		}
	}
	// What is handed over is what is in the folder: nobody needs to read it back.
	if read(t, filepath.Join(res.Dir, release.Name)) != string(res.Encoded) || res.Unchanged {
		t.Errorf("%+v", res)
	}
	sums, err := release.ParseSums([]byte(read(t, filepath.Join(res.Dir, release.SumsName))))
	if err != nil || sums["a.txt"] != res.Manifest.Files[0].SHA256 || len(sums) != 3 {
		t.Errorf("%v, %v", sums, err)
	}
	again, err := Make(t.Context(), planOf(files), options(root, writer{files, errors.New("nothing is to be made")}))
	if err != nil || !again.Unchanged || string(again.Encoded) != string(res.Encoded) {
		t.Errorf("again: %+v, %v", again, err)
	}
	// Files that somebody changed or added are laid anew.
	if err := os.WriteFile(filepath.Join(res.Dir, "stray"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if again, err = Make(t.Context(), planOf(files), options(root, writer{files: files})); err != nil ||
		again.Unchanged {
		t.Errorf("with a stray file: %+v, %v", again, err)
	}
	if _, err := os.Stat(filepath.Join(res.Dir, "stray")); err == nil {
		t.Error("a stray file stays")
	}
}

// A failure leaves the outbox as it was.
func TestFailure(t *testing.T) {
	root := t.TempDir()
	files := map[string]string{"a.txt": "ring"}
	res, err := Make(t.Context(), planOf(files), options(root, writer{files: files}))
	if err != nil {
		t.Fatal(err)
	}
	next := map[string]string{"a.txt": "gong"}
	_, err = Make(t.Context(), planOf(next), options(root, writer{next, errors.New("broken")}))
	var failed *engine.Error
	if !errors.As(err, &failed) || failed.Failed[0].Title != "write a.txt" || len(failed.Skipped) != 1 {
		t.Errorf("got %v", err)
	}
	if got := read(t, filepath.Join(res.Dir, "a.txt")); got != "ring" {
		t.Errorf("the outbox has %q", got)
	}
	// What was planned and no maker made is told.
	p := planOf(map[string]string{"a.txt": "", "forgotten.txt": ""})
	if _, err := Make(t.Context(), p, options(root, writer{files: files})); err == nil {
		t.Error("a file that nobody makes was not missed")
	}
}

// Only one run at a time works in a project; others are told who it is. Two
// projects do not meet.
func TestLock(t *testing.T) {
	root := t.TempDir()
	dir := filepath.Join(root, release.WorkDir)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	o := options(root, writer{})
	free, err := lock(t.Context(), dir, o)
	if err != nil {
		t.Fatal(err)
	}
	var held *HeldError
	if _, err := Make(t.Context(), planOf(nil), o); !errors.As(err, &held) || held.Holder.PID != os.Getpid() ||
		!strings.Contains(err.Error(), `"piedmont make"`) {
		t.Errorf("got %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 150*time.Millisecond)
	defer cancel()
	o.NoWait = false
	if _, err := lock(ctx, dir, o); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("waiting was not ended: %v", err)
	}
	free()
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			files := map[string]string{"a.txt": t.Name()}
			if _, err := Make(t.Context(), planOf(files), options(t.TempDir(), writer{files: files})); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
}
