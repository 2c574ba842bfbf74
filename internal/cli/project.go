package cli

import (
	"context"
	"errors"
	"path/filepath"

	"golang.org/x/sync/errgroup"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/progress"
	"piedmont/internal/config"
	"piedmont/internal/kinds"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
	"piedmont/internal/plan/survey"
	"piedmont/internal/project/git"
)

// loaded is a description with its plan.
type loaded struct {
	doc   *config.Document
	plan  *plan.Plan
	facts git.Facts
	kinds *kinds.Kinds
}

// load reads the description, asks git, and computes the plan.
func (a *app) load(ctx context.Context) (*loaded, error) {
	file, err := a.configFile()
	if err != nil {
		return nil, err
	}
	p, docErr, gitErr := a.read(ctx, file, false)
	if docErr != nil {
		return nil, docErr
	}
	if gitErr != nil {
		return nil, gitErr
	}
	return p, a.planOf(ctx, p)
}

// describe reads the description alone.
func (a *app) describe(ctx context.Context, file string, withoutGo bool) (*loaded, error) {
	k := kinds.New(kinds.Options{Ctx: ctx, Dir: filepath.Dir(file), Env: a.env, Lenient: withoutGo,
		Go: a.golang, Events: sayEvents{a}})
	doc, err := config.Load(file, k.Tables())
	if err != nil {
		return nil, err
	}
	k.Use(doc)
	return &loaded{doc: doc, kinds: k}, nil
}

// read reads the file while git is being asked. A faulty file is told before
// anything that git says. With withoutGo a missing toolchain is no fault; the
// platforms are not checked then.
func (a *app) read(ctx context.Context, file string, withoutGo bool) (p *loaded, docErr, gitErr error) {
	var facts git.Facts
	var g errgroup.Group
	g.Go(func() error {
		p, docErr = a.describe(ctx, file, withoutGo)
		return nil
	})
	g.Go(func() error {
		facts, gitErr = a.repo(filepath.Dir(file)).Facts(ctx)
		return nil
	})
	_ = g.Wait() // each keeps its own error
	if docErr == nil {
		p.facts = facts
	}
	return p, docErr, gitErr
}

func (a *app) repo(dir string) git.Repo { return git.Repo{Dir: dir, Env: a.env} }

// planOf surveys the project and plans.
func (a *app) planOf(ctx context.Context, p *loaded) error {
	facts, err := survey.Take(ctx, p.doc, p.facts, a.repo(p.doc.Dir))
	if err != nil {
		return err
	}
	facts.Compiler = func(on platform.Platform, name string) error {
		_, err := p.kinds.Finder.Find(ctx, on, toolchain.Options{Name: name})
		var unfetched *toolchain.NotFetchedError
		if err == nil || errors.As(err, &unfetched) || !toolchain.Unavailable(err) {
			return nil // one that is still to be fetched is as good as there
		}
		return err
	}
	p.plan, err = plan.New(p.doc, facts, p.kinds.Parts())
	return err
}

// sayEvents tells what happens while nothing is drawn, such as a download.
type sayEvents struct{ a *app }

// Event says notes as lines.
func (s sayEvents) Event(e progress.Event) {
	if n, ok := e.(progress.Note); ok && !s.a.quiet {
		s.a.screen.Say("%s", n.Text)
	}
}
