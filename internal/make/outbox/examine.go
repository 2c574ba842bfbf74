package outbox

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"piedmont/internal/format/exe"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
)

// examined is the id of the step that lets a build's files pass.
func examined(build string) string { return "examine " + build }

// waitFor adds the step that lets a build pass, where there is a build.
func waitFor(needs []string, build string) []string {
	if id := examined(build); build != "" && !slices.Contains(needs, id) {
		return append(needs, id)
	}
	return needs
}

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
func (m *maker) examine(b plan.Build) *engine.Step {
	return &engine.Step{
		ID: examined(b.ID), Title: fmt.Sprintf("examine %s for %s", b.Names(), b.Target), Needs: []string{b.ID}, Silent: true,
		Key: func(context.Context, engine.Inputs) (string, error) { return "", nil },
		Run: func(_ context.Context, in engine.Inputs) ([]store.Object, error) {
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
		},
	}
}

func faultsOf(b plan.Build, o store.Object) ([]string, error) {
	about, err := madeOf(o)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(b.Programs, func(p plan.Output) bool { return p.File == o.Name })
	info := about.Binary
	if info == nil {
		if i >= 0 && (b.C == nil || !b.C.Library) && wantsBinary(b.Programs[i]) {
			return []string{"it is no ELF, Mach-O or PE file, and expect says what must be true of one"}, nil
		}
		return nil, nil
	}
	if info.Type != exe.Executable && info.Type != exe.Library {
		return nil, nil
	}
	var out []string
	if why := exe.Misfit(info, b.Platform); why != "" {
		out = append(out, why)
	}
	var expect exe.Expect
	if i >= 0 {
		expect = b.Programs[i].Expect
	}
	if len(out) == 0 {
		if why := exe.StrangeLoader(info, b.Platform, expect); why != "" {
			out = append(out, why)
		}
	}
	info.Paths = about.Paths
	return append(out, expect.Broken(exe.Sight{Info: info, Size: o.Size, HasVersion: about.Version})...), nil
}

func wantsBinary(p plan.Output) bool {
	e := p.Expect
	return e.Linkage != "" || e.LibcAtMost != "" || e.Stripped || e.NeedsOnly != nil
}

// below gives the path of a file relative to a folder of the stage, or, where
// from is a pattern, to the part before it; false when it is not taken.
func below(from, name string) (string, bool) {
	if from == "." {
		return name, true
	}
	if rest, ok := strings.CutPrefix(name, from+"/"); ok {
		return rest, true
	}
	if name == from {
		return path.Base(name), true
	}
	if ok, _ := doublestar.Match(from, name); !ok {
		return "", false
	}
	base, _ := doublestar.SplitPattern(from)
	if base == "." {
		return name, true
	}
	return strings.TrimPrefix(name, base+"/"), true
}

// keyed is a lock for each of many names.
type keyed struct {
	mu    sync.Mutex
	locks map[string]*sync.Mutex
}

func (k *keyed) lock(name string) (unlock func()) {
	k.mu.Lock()
	if k.locks == nil {
		k.locks = map[string]*sync.Mutex{}
	}
	l := k.locks[name]
	if l == nil {
		l = &sync.Mutex{}
		k.locks[name] = l
	}
	k.mu.Unlock()
	l.Lock()
	return l.Unlock
}
