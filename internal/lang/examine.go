package lang

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/check/expect"
	"piedmont/internal/format/exe"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
)

// ExamineError says what is wrong with files that a build made.
type ExamineError struct {
	Platform string
	Faults   []string // each a file and a sentence
}

func (e *ExamineError) Error() string {
	return "what was made is not what was declared:\n" + strings.Join(e.Faults, "\n")
}

// examine holds what a build made against the platform and the expectations.
// Nothing is packed before. It reads no file: what there is to know was found
// out while they were kept.
func examine(b *plan.Build) *engine.Step {
	return &engine.Step{
		ID: work.Examined(b.ID), Title: fmt.Sprintf("examine %s for %s", b.Names(), b.Target),
		Needs: []string{b.ID}, Silent: true,
		Prepare: func(_ context.Context, in engine.Inputs) (engine.Work, error) {
			return engine.Work{Run: func(context.Context) ([]store.Object, error) {
				var faults []string
				for _, o := range in[b.ID] {
					found, err := faultsOf(b, o)
					if err != nil {
						return nil, err
					}
					for _, f := range found {
						faults = append(faults, o.Name+": "+f)
					}
				}
				if len(faults) > 0 {
					return nil, &ExamineError{b.Target, faults}
				}
				return in[b.ID], nil
			}}, nil
		},
	}
}

func faultsOf(b *plan.Build, o store.Object) ([]string, error) {
	made, err := work.MadeOf(o)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(b.Programs, func(p plan.Output) bool { return p.File == o.Name })
	info := made.Binary
	if info == nil {
		if i >= 0 && b.Job.Executable() && b.Programs[i].Expect.WantsBinary() {
			return []string{"it is no ELF, Mach-O or PE file, and expect says what must be true of one"}, nil
		}
		return nil, nil
	}
	if info.Type != exe.Executable && info.Type != exe.Library {
		return nil, nil
	}
	var e expect.Expect
	if i >= 0 {
		e = b.Programs[i].Expect
	}
	info.Paths = made.Paths
	return e.Judge(expect.Sight{Info: info, Size: o.Size, HasVersion: made.Version}, b.Platform), nil
}
