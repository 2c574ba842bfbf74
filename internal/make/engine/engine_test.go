package engine

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"piedmont/internal/base/progress"
	"piedmont/internal/make/store"
)

type collector struct {
	mu     sync.Mutex
	events []progress.Event
}

func (c *collector) Event(e progress.Event) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.events = append(c.events, e)
}

func open(t *testing.T) *store.Store {
	t.Helper()
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// step writes its name and what it got into an object of its name.
func step(s *store.Store, runs *atomic.Int64, id, key string, needs ...string) *Step {
	return &Step{ID: id, Title: id, Needs: needs,
		Prepare: func(_ context.Context, in Inputs) (Work, error) {
			full := key
			for _, n := range needs {
				full += in[n][0].SHA256
			}
			return Work{Key: full, Run: func(ctx context.Context) ([]store.Object, error) {
				runs.Add(1)
				w, err := s.Create(id)
				if err != nil {
					return nil, err
				}
				_, _ = w.Write([]byte(id + full))
				o, err := w.Commit(ctx)
				return []store.Object{o}, err
			}}, nil
		}}
}

// work is that of a step whose outputs are not remembered.
func work(run func(context.Context) ([]store.Object, error)) func(context.Context, Inputs) (Work, error) {
	return func(context.Context, Inputs) (Work, error) { return Work{Run: run}, nil }
}

func TestGraphRunsInOrderAndReuses(t *testing.T) {
	s, c := open(t), &collector{}
	var runs atomic.Int64
	graph := func(key string) []*Step {
		return []*Step{step(s, &runs, "pack", "p", "a", "b"), step(s, &runs, "a", key), step(s, &runs, "b", "kb")}
	}
	out, err := Run(t.Context(), graph("ka"), Options{Jobs: 2, Store: s, Events: c})
	if err != nil || runs.Load() != 3 || len(out) != 3 {
		t.Fatalf("%v, %d runs", err, runs.Load())
	}
	last := c.events[len(c.events)-1].(progress.Finished)
	if last.ID != "pack" {
		t.Errorf("%s came last", last.ID)
	}
	if _, err := Run(t.Context(), graph("ka"), Options{Jobs: 1, Store: s, Events: c}); err != nil || runs.Load() != 3 {
		t.Errorf("again: %v, %d runs", err, runs.Load())
	}
	if _, err := Run(t.Context(), graph("changed"), Options{Jobs: 1, Store: s, Events: c}); err != nil ||
		runs.Load() != 5 {
		t.Errorf("after a change of a: %v, %d runs, want a and pack again", err, runs.Load())
	}
}

func TestFailureStopsOnlyWhatNeedsIt(t *testing.T) {
	s := open(t)
	var runs atomic.Int64
	bad := step(s, &runs, "bad", "x")
	bad.Prepare = work(func(context.Context) ([]store.Object, error) { return nil, errors.New("broken") })
	_, err := Run(t.Context(), []*Step{bad, step(s, &runs, "after", "y", "bad"), step(s, &runs, "beside", "z")},
		Options{Jobs: 1, Store: s, Events: progress.Discard{}})
	var e *Error
	if !errors.As(err, &e) || e.Failed[0].Title != "bad" || !slices.Equal(e.Skipped, []string{"after"}) ||
		!slices.Equal(e.Done, []string{"beside"}) {
		t.Errorf("got %+v", err)
	}
}

func TestJobsBound(t *testing.T) {
	s := open(t)
	var now, most atomic.Int64
	var steps []*Step
	for _, id := range strings.Split("abcdefgh", "") {
		steps = append(steps, &Step{ID: id, Prepare: work(func(context.Context) ([]store.Object, error) {
			n := now.Add(1)
			for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
			}
			time.Sleep(5 * time.Millisecond)
			now.Add(-1)
			return nil, nil
		})})
	}
	if _, err := Run(t.Context(), steps, Options{Jobs: 3, Store: s, Events: progress.Discard{}}); err != nil ||
		most.Load() != 3 {
		t.Errorf("%v, %d at once, want 3", err, most.Load())
	}
}

func TestCancel(t *testing.T) {
	s := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	wait := &Step{ID: "wait", Prepare: work(func(ctx context.Context) ([]store.Object, error) {
		cancel()
		<-ctx.Done()
		return nil, ctx.Err()
	})}
	if _, err := Run(ctx, []*Step{wait}, Options{Jobs: 1, Store: s, Events: progress.Discard{}}); !errors.Is(
		err, context.Canceled) {
		t.Errorf("got %v", err)
	}
}

func TestImpossibleGraphs(t *testing.T) {
	s := open(t)
	var runs atomic.Int64
	for name, steps := range map[string][]*Step{
		"a circle":     {step(s, &runs, "a", "", "b"), step(s, &runs, "b", "", "a")},
		"unknown need": {step(s, &runs, "a", "", "b")},
		"twice one id": {step(s, &runs, "a", ""), step(s, &runs, "a", "")},
	} {
		if _, err := Run(t.Context(), steps,
			Options{Jobs: 1, Store: s, Events: progress.Discard{}}); err == nil || runs.Load() > 0 {
			t.Errorf("%s was run", name)
		}
	}
}
