package engine_test

import (
	"context"
	"fmt"
	"os"

	"piedmont/internal/base/progress"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
)

// Steps run as soon as what they need is there; what was made once with the same
// key is not made again.
func ExampleRun() {
	dir, _ := os.MkdirTemp("", "engine-*")
	defer func() { _ = os.RemoveAll(dir) }()
	s, err := store.Open(dir)
	if err != nil {
		fmt.Println(err)
		return
	}
	say := func(id string, needs ...string) *engine.Step {
		return &engine.Step{ID: id, Title: id, Needs: needs,
			Prepare: func(context.Context, engine.Inputs) (engine.Work, error) {
				return engine.Work{Key: id, Run: func(context.Context) ([]store.Object, error) {
					fmt.Println(id)
					return nil, nil
				}}, nil
			}}
	}
	steps := []*engine.Step{say("pack", "compile"), say("compile")}
	for range 2 {
		_, err = engine.Run(context.Background(), steps,
			engine.Options{Jobs: 2, Store: s, Events: progress.Discard{}})
	}
	fmt.Println(err)
	// Output:
	// compile
	// pack
	// <nil>
}
