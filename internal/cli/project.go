package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"golang.org/x/sync/errgroup"

	"piedmont/internal/config"
	"piedmont/internal/history"
	"piedmont/internal/plan"
	"piedmont/internal/repo"
	"piedmont/internal/version"
)

// project is a configuration with its plan.
type project struct {
	config *config.Config
	plan   *plan.Plan
}

// load reads the configuration, asks git, and computes the plan.
func (a *app) load(ctx context.Context) (*project, error) {
	file, err := a.configFile()
	if err != nil {
		return nil, err
	}
	c, facts, err := a.readProject(ctx, file)
	if err != nil {
		return nil, err
	}
	p, err := plan.New(c, facts)
	if err != nil {
		return nil, err
	}
	return &project{c, p}, nil
}

// readProject reads the file while git is being asked. A faulty file is told
// before anything that git says.
func (a *app) readProject(ctx context.Context, file string) (*config.Config, plan.Facts, error) {
	dir := dirOf(file)
	var c *config.Config
	var git repo.Facts
	var configErr, gitErr error
	var g errgroup.Group
	g.Go(func() error {
		c, configErr = config.Load(file, func() ([]string, error) { return a.tools.Platforms(ctx, dir) })
		return nil
	})
	g.Go(func() error {
		git, gitErr = repo.Repo{Dir: dir}.Facts(ctx)
		return nil
	})
	_ = g.Wait() // each keeps its own error
	if configErr != nil || gitErr != nil {
		return nil, plan.Facts{}, first(configErr, gitErr)
	}
	h := version.History{Commit: git.Commit, Here: git.Here, Dirty: len(git.Dirty) > 0}
	if p := c.Version.Place; p != nil {
		var err error
		if h.Declared, err = p.Read(dir); err != nil {
			return nil, plan.Facts{}, usage("version.source " + err.Error())
		}
		if !version.Valid(h.Declared) {
			return nil, plan.Facts{}, usage(fmt.Sprintf("version.source %s: %q is not a version as SemVer 2.0 writes it, such as 1.4.0", p, h.Declared))
		}
		h.Source = p.String()
	}
	if _, here := c.Version.Pattern.Highest(git.Here); here == nil {
		var err error
		accept := func(tag string) bool { return c.Version.Pattern.Version(tag) != nil }
		if h.Last, h.Distance, err = (repo.Repo{Dir: dir}).LastTag(ctx, c.Version.Pattern.Glob(), accept); err != nil {
			return nil, plan.Facts{}, err
		}
	}
	release := version.Decide(h, c.Version.Pattern)
	since, err := history.Since(ctx, repo.Repo{Dir: dir}, c, git.Here, !release.Preview && !version.IsPrerelease(release.Version))
	if err != nil {
		return nil, plan.Facts{}, err
	}
	return c, plan.Facts{Release: release, Commit: git.Commit, Time: git.Time, Files: os.DirFS(dir), Notes: since.Notes(c, release, git.Time)}, nil
}

func first(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return errors.New("no error")
}
