package cc

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"piedmont/internal/base/progress"
	"piedmont/internal/lang"
)

// compiled collects what came of compiling several sources side by side.
type compiled struct {
	mu               sync.Mutex
	faults, warnings []string
	failed           error
}

// enough says whether there is no use in compiling more.
func (c *compiled) enough() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.failed != nil || len(c.faults) >= 5
}

// objects compiles every source whose object is not up to date, and gives all
// objects in the order of the sources.
func (j *job) objects(ctx context.Context, o *objectFolder) ([]string, error) {
	look := newLooker(j.Inputs, o.headers)
	var out, stale []string
	for _, src := range j.c.Sources {
		out = append(out, o.object(src))
		if !o.upToDate(ctx, j, look, src) {
			stale = append(stale, src)
		}
	}
	var found compiled
	j.all(ctx, o, stale, &found)
	// Also of a run that ends early: what it compiled need not be compiled again.
	if err := o.settle(context.WithoutCancel(ctx), j, look); err != nil {
		return nil, err
	}
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case found.failed != nil:
		return nil, found.failed
	case len(found.faults) > 0:
		slices.Sort(found.faults)
		return nil, &lang.CompileError{Platform: j.b.Platform, Programs: []string{j.b.Programs[0].Program},
			Output: j.plain(strings.Join(found.faults, "\n"))}
	}
	if len(found.warnings) > 0 && j.Events != nil {
		slices.Sort(found.warnings)
		text := lang.LastLines(j.plain(strings.Join(found.warnings, "\n")), 20)
		j.Events.Event(progress.Note{Text: fmt.Sprintf("%s for %s: %s", j.b.Programs[0].Program, j.b.Target, text)})
	}
	return out, nil
}

// all compiles sources side by side, until one fails for good or five are refused.
func (j *job) all(ctx context.Context, o *objectFolder, sources []string, found *compiled) {
	var group sync.WaitGroup
	defer group.Wait()
	for _, src := range sources {
		select {
		case <-ctx.Done():
			return
		case j.compile <- struct{}{}:
		}
		if ctx.Err() != nil || found.enough() {
			<-j.compile
			return
		}
		group.Go(func() {
			defer func() { <-j.compile }()
			began := time.Now()
			said, deps, err := j.source(ctx, o, src)
			found.mu.Lock()
			defer found.mu.Unlock()
			var refused *lang.CompileError
			switch {
			case errors.As(err, &refused):
				found.faults = append(found.faults, refused.Output)
			case err != nil:
				found.failed = err
			default:
				o.fresh(src, j.command(src), deps, began)
				if said != "" {
					found.warnings = append(found.warnings, said)
				}
			}
		})
	}
}

// source compiles one source. It gives what the compiler warned of, and the files
// that it read.
func (j *job) source(ctx context.Context, o *objectFolder, src string) (said string, deps []string, err error) {
	object := o.object(src)
	if err := os.MkdirAll(filepath.Dir(object), 0o755); err != nil {
		return "", nil, err
	}
	driver, err := driver(j.cc, isCXX(src))
	if err != nil {
		return "", nil, err
	}
	list := strings.TrimSuffix(object, ".o") + ".d"
	args := append(j.compileArgs(src), "-MD", "-MF", list, "-c", "-o", object, src)
	_, stderr, err := lang.Run(ctx, j.Root, j.environ(), driver, args...)
	if err != nil {
		if ctx.Err() != nil {
			return "", nil, ctx.Err()
		}
		return "", nil, &lang.CompileError{Platform: j.b.Platform, Output: lang.FirstOf(stderr, err.Error())}
	}
	data, err := os.ReadFile(list)
	if err != nil {
		return "", nil, fmt.Errorf("the compiler %s wrote no list of what it read: %w", driver, err)
	}
	return strings.TrimSpace(stderr), readDepfile(string(data)), nil
}
