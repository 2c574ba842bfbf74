package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sync/errgroup"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/progress"
	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/project/history"
	"piedmont/internal/project/version"
)

// project is a configuration with its plan.
type project struct {
	config *config.Config
	plan   *plan.Plan
	facts  git.Facts
	finder *toolchain.Finder
}

// load reads the configuration, asks git, and computes the plan.
func (a *app) load(ctx context.Context) (*project, error) {
	file, err := a.configFile()
	if err != nil {
		return nil, err
	}
	c, facts, configErr, gitErr := a.read(ctx, file, false)
	if err := first(configErr, gitErr); err != nil {
		return nil, err
	}
	finder := a.finder(c)
	p, err := planOf(ctx, c, facts, finder)
	if err != nil {
		return nil, err
	}
	return &project{c, p, facts, finder}, nil
}

// read reads the file while git is being asked. A faulty file is told before
// anything that git says. With withoutGo a missing toolchain is no fault; the
// platforms are not checked then.
func (a *app) read(ctx context.Context, file string, withoutGo bool) (c *config.Config, facts git.Facts, configErr, gitErr error) {
	dir := filepath.Dir(file)
	var g errgroup.Group
	g.Go(func() error {
		c, configErr = config.Load(file, func() ([]string, error) {
			list, err := a.tools.Platforms(ctx, dir)
			if withoutGo && errors.Is(err, lang.ErrNoGo) {
				return nil, nil
			}
			return list, err
		})
		return nil
	})
	g.Go(func() error {
		facts, gitErr = git.Repo{Dir: dir}.Facts(ctx)
		return nil
	})
	_ = g.Wait() // each keeps its own error
	return c, facts, configErr, gitErr
}

// planOf decides the version, reads what happened since the last one, and plans.
func planOf(ctx context.Context, c *config.Config, facts git.Facts, finder *toolchain.Finder) (*plan.Plan, error) {
	r := git.Repo{Dir: c.Dir}
	h := version.History{Commit: facts.Commit, Here: facts.Here, Dirty: len(facts.Dirty) > 0}
	if p := c.Version.Place; p != nil {
		var err error
		if h.Declared, err = p.Read(c.Dir); err != nil {
			return nil, usage("version.source " + err.Error())
		}
		if !version.Valid(h.Declared) {
			return nil, usage(fmt.Sprintf("version.source %s: %q is not a version as SemVer 2.0 writes it, such as 1.4.0", p, h.Declared))
		}
		h.Source = p.String()
	}
	if _, here := c.Version.Pattern.Highest(facts.Here); here == nil {
		var err error
		accept := func(tag string) bool { return c.Version.Pattern.Version(tag) != nil }
		if h.Last, h.Distance, err = r.LastTag(ctx, c.Version.Pattern.Glob(), accept); err != nil {
			return nil, err
		}
	}
	release := version.Decide(h, c.Version.Pattern)
	if release.Preview {
		if shallow, err := r.Shallow(ctx); err == nil && shallow {
			release.Why += "; the clone is shallow and may lack tags: git fetch --unshallow --tags"
		}
	}
	since, err := history.Since(ctx, r, c, facts.Here, !release.Preview && !version.IsPrerelease(release.Version))
	if err != nil {
		return nil, err
	}
	return plan.New(c, plan.Facts{Release: release, Commit: facts.Commit, Time: facts.Time, Files: os.DirFS(c.Dir), Notes: since.Notes(c, release, facts.Time),
		Compiler: func(on platform.Platform, name string) error {
			// One that is still to be fetched is as good as there.
			if _, err := finder.Find(ctx, on, name, false); toolchain.Unavailable(err) {
				return err
			}
			return nil
		}})
}

// finder looks for the compilers of a project.
func (a *app) finder(c *config.Config) *toolchain.Finder {
	return &toolchain.Finder{Root: c.Dir, Declared: c.Toolchains, Events: sayEvents{a}}
}

// sayEvents tells what happens while nothing is drawn, such as a download.
type sayEvents struct{ a *app }

// Event says notes as lines.
func (s sayEvents) Event(e progress.Event) {
	if n, ok := e.(progress.Note); ok && !s.a.quiet {
		s.a.screen.Say("%s", n.Text)
	}
}

func first(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}
