// Package engine runs steps as a graph: what a step needs runs before it, what
// is ready runs side by side up to a bound, and a step whose key is known is
// not run again. It knows nothing of what the steps do.
package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"piedmont/internal/base/progress"
	"piedmont/internal/make/store"
)

// Inputs are the outputs of the steps that a step needs, by step.
type Inputs map[string][]store.Object

// Step is one piece of work.
type Step struct {
	ID    string
	Title string   // for people
	Needs []string // ids of steps whose outputs it reads
	// Silent steps cost nothing worth telling: only a failure is told.
	Silent bool
	// Prepare finds out what the step depends on, once.
	Prepare func(context.Context, Inputs) (Work, error)
}

// Work is a step that knows what it depends on.
type Work struct {
	// Key is a text over everything that can change the outputs; "" means that the
	// step runs each time.
	Key string
	Run func(context.Context) ([]store.Object, error)
	// After gives the key under which the outputs are remembered, where that is
	// known only when the step has run; nil means that it is the same key.
	After func(context.Context) (string, error)
}

// Options say how steps run.
type Options struct {
	Jobs   int // how many steps run at once
	Store  *store.Store
	Events progress.Sink
}

// Error tells which steps failed, which could not run for that reason, and which were done.
type Error struct {
	Failed  []Failure
	Skipped []string // titles
	Done    []string // titles
}

// Failure is one failed step.
type Failure struct {
	Title string
	Err   error
}

func (e *Error) Error() string {
	lines := make([]string, len(e.Failed))
	for i, f := range e.Failed {
		lines[i] = f.Title + ": " + f.Err.Error()
	}
	return strings.Join(lines, "\n")
}

// Unwrap gives the causes.
func (e *Error) Unwrap() []error {
	var errs []error
	for _, f := range e.Failed {
		errs = append(errs, f.Err)
	}
	return errs
}

type result struct {
	step    *Step
	outputs []store.Object
	reused  bool
	took    time.Duration
	err     error
}

// Run runs every step and gives all outputs by step. A failed step stops only
// those that need it, so that one run tells all there is to know; cancelling
// the context stops everything.
func Run(ctx context.Context, steps []*Step, o Options) (Inputs, error) {
	if err := check(steps); err != nil {
		return nil, err
	}
	told := 0
	for _, s := range steps {
		if !s.Silent {
			told++
		}
	}
	o.Events.Event(progress.Began{What: "make", Steps: told})
	r := &run{o: o, outputs: Inputs{}, waits: map[string]int{}, opens: map[string][]*Step{}, results: make(chan result)}
	for _, s := range steps {
		r.waits[s.ID] = len(s.Needs)
		for _, n := range s.Needs {
			r.opens[n] = append(r.opens[n], s)
		}
		if len(s.Needs) == 0 {
			r.ready = append(r.ready, s)
		}
	}
	r.loop(ctx)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if len(r.failed) == 0 {
		return r.outputs, nil
	}
	e := &Error{Failed: r.failed}
	for _, s := range steps {
		if _, ok := r.outputs[s.ID]; ok && !s.Silent {
			e.Done = append(e.Done, s.Title)
		} else if !ok && !r.failedID[s.ID] && !s.Silent {
			e.Skipped = append(e.Skipped, s.Title)
		}
	}
	return nil, e
}

type run struct {
	o        Options
	mu       sync.Mutex // guards outputs while steps read them
	outputs  Inputs
	waits    map[string]int
	opens    map[string][]*Step
	ready    []*Step
	results  chan result
	failed   []Failure
	failedID map[string]bool
}

func (r *run) loop(ctx context.Context) {
	r.failedID = map[string]bool{}
	running := 0
	for {
		for running < max(1, r.o.Jobs) && len(r.ready) > 0 && ctx.Err() == nil {
			s := r.ready[0]
			r.ready = r.ready[1:]
			running++
			go func() { r.results <- r.perform(ctx, s) }()
		}
		if running == 0 {
			return
		}
		res := <-r.results
		running--
		r.settle(ctx, res)
	}
}

func (r *run) settle(ctx context.Context, res result) {
	if res.err != nil {
		if ctx.Err() != nil && errors.Is(res.err, context.Canceled) {
			return
		}
		r.failed = append(r.failed, Failure{res.step.Title, res.err})
		r.failedID[res.step.ID] = true
		r.o.Events.Event(progress.Failed{ID: res.step.ID, Title: res.step.Title, Err: res.err})
		return
	}
	r.mu.Lock()
	r.outputs[res.step.ID] = res.outputs
	r.mu.Unlock()
	var size int64
	for _, o := range res.outputs {
		size += o.Size
	}
	if !res.step.Silent {
		r.o.Events.Event(progress.Finished{ID: res.step.ID, Title: res.step.Title, Reused: res.reused,
			Took: res.took, Size: size})
	}
	var next []*Step
	for _, s := range r.opens[res.step.ID] {
		if r.waits[s.ID]--; r.waits[s.ID] == 0 {
			next = append(next, s)
		}
	}
	// What a step makes possible comes before what was ready from the beginning,
	// so that packing fills the pauses of compilers instead of waiting for the last.
	r.ready = append(next, r.ready...)
}

func (r *run) perform(ctx context.Context, s *Step) result {
	start := time.Now()
	res := result{step: s}
	in := Inputs{}
	r.mu.Lock()
	for _, n := range s.Needs {
		in[n] = r.outputs[n]
	}
	r.mu.Unlock()
	work, err := s.Prepare(ctx, in)
	if err != nil {
		res.err = err
		return res
	}
	key := work.Key
	if key != "" {
		if outputs, ok := r.o.Store.Recall(key); ok {
			res.outputs, res.reused = outputs, true
			return res
		}
	}
	if !s.Silent {
		r.o.Events.Event(progress.Started{ID: s.ID, Title: s.Title})
	}
	res.outputs, res.err = work.Run(ctx)
	if res.err == nil && work.After != nil {
		key, res.err = work.After(ctx)
	}
	if res.err == nil && key != "" {
		res.err = r.o.Store.Remember(key, res.outputs)
	}
	res.took = time.Since(start)
	return res
}

// check refuses a graph with unknown needs, two steps of one id, or a circle.
func check(steps []*Step) error {
	byID := map[string]*Step{}
	for _, s := range steps {
		if byID[s.ID] != nil {
			return fmt.Errorf("two steps have the id %q", s.ID)
		}
		byID[s.ID] = s
	}
	state := map[string]int{} // 1 on the way, 2 known to be fine
	var visit func(s *Step) error
	visit = func(s *Step) error {
		state[s.ID] = 1
		for _, n := range s.Needs {
			need := byID[n]
			if need == nil {
				return fmt.Errorf("the step %q needs %q, which does not exist", s.ID, n)
			}
			if state[n] == 1 {
				return fmt.Errorf("the steps %q and %q need each other", s.ID, n)
			}
			if state[n] == 0 {
				if err := visit(need); err != nil {
					return err
				}
			}
		}
		state[s.ID] = 2
		return nil
	}
	for _, s := range steps {
		if state[s.ID] == 0 {
			if err := visit(s); err != nil {
				return err
			}
		}
	}
	return nil
}
