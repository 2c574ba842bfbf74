package cli

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/fault"
	"piedmont/internal/cli/demo"
	"piedmont/internal/cli/term"
	"piedmont/internal/kinds"
	"piedmont/internal/lang/golang"
	"piedmont/internal/serve"
	"piedmont/internal/serve/api"
)

func (a *app) demo() *cli.Command {
	var stay bool
	return &cli.Command{
		Name: "demo", Category: groupFirst,
		Usage: "does the whole job on a sample project, with a release page of its own", ArgsUsage: "[DIR]",
		Description: "It writes the project with its git history into DIR (without one, into a new\n" +
			"folder for temporary files), starts a release page on a free port of this\n" +
			"machine, ships, downloads what came out and verifies it.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "stay",
			Usage: "leave the release page running until Ctrl-C", Destination: &stay}},
		Metadata: example("piedmont demo", "piedmont demo hutbell-demo --stay"),
		Action: func(ctx context.Context, c *cli.Command) error {
			dir, err := a.demoDir(c)
			if err != nil {
				return err
			}
			return a.runDemo(ctx, dir, stay)
		},
	}
}

func (a *app) demoDir(c *cli.Command) (string, error) {
	if c.NArg() > 1 {
		return "", usage("\"piedmont demo\" takes one folder at most")
	}
	if c.NArg() == 0 {
		return os.MkdirTemp("", "piedmont-demo-")
	}
	dir := c.Args().First()
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(a.dir, dir)
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return "", usage(fmt.Sprintf("%s is not empty: name a folder that does not exist yet", c.Args().First()))
	}
	return dir, os.MkdirAll(dir, 0o755)
}

// step announces what the demo does, with the command that does it by hand.
func (a *app) step(text, command string) {
	if a.quiet || a.json {
		return
	}
	s := a.screen
	s.Print("\n%s", s.Paint(term.Bold, text))
	if command != "" {
		s.Print("%s", s.Paint(term.Soft, "  $ "+command))
	}
}

func (a *app) runDemo(ctx context.Context, dir string, stay bool) error {
	project := filepath.Join(dir, demo.Name)
	data := filepath.Join(dir, "page")
	a.step("A project with a git history, made up for this: "+project, "")
	if err := demo.Write(ctx, project, a.env); err != nil {
		return err
	}
	address, end, err := a.demoPage(ctx, data)
	if err != nil {
		return err
	}
	defer end()
	a.dir, a.config = project, ""
	a.now = func() time.Time { return demo.Day }
	a.env = a.env.With(demo.Identity()...)
	a.golang = &golang.Tools{Env: a.env}
	if err := a.demoRelease(ctx); err != nil {
		return err
	}
	for _, where := range []string{address + demo.Name + "/" + demo.Version + "/",
		filepath.Join(dir, "share", demo.Version)} {
		a.step("Check what anybody gets there", "piedmont verify "+where)
		r, err := a.runVerify(ctx, where)
		if err != nil {
			return err
		}
		if !a.json {
			a.showReport(r)
		}
		if !r.OK {
			return told{fault.Mismatch}
		}
	}
	return a.demoEnd(ctx, dir, data, address, stay)
}

// demoRelease goes from the commits to the published release.
func (a *app) demoRelease(ctx context.Context) error {
	talks := !a.quiet && !a.json
	if talks {
		a.step("What stands in the way of a release", "piedmont ready")
		if err := a.runReady(ctx, nil); err != nil && fault.Of(err) != fault.NotReady {
			return err
		}
	}
	a.step("Three releases are tagged. The commits since then decide the fourth", "piedmont cut --yes")
	if err := a.demoCut(ctx); err != nil {
		return err
	}
	if talks {
		a.step("What will be made", "piedmont plan")
		p, err := a.load(ctx)
		if err != nil {
			return err
		}
		a.showPlan(p.plan)
	}
	a.step("Make it and publish it", "piedmont ship")
	return a.runShip(ctx, nil, false)
}

// demoCut cuts the release. With --json the one document is that of ship, so
// this says nothing.
func (a *app) demoCut(ctx context.Context) error {
	silent := *a
	if a.json || a.quiet {
		silent.screen = term.New(io.Discard, a.screen.Err, a.env)
		silent.json, silent.quiet = false, true
	}
	return silent.runCut(ctx, cutOptions{yes: true})
}

func (a *app) demoEnd(ctx context.Context, dir, data, address string, stay bool) error {
	a.step("Where to look", "")
	if !a.json {
		s := a.screen
		rows := [][]string{
			{"the project", filepath.Join(dir, demo.Name)},
			{"what was made", filepath.Join(dir, demo.Name, "outbox", demo.Version)},
			{"a folder that is a site", filepath.Join(dir, "share", "index.html")},
		}
		if stay {
			rows = append(rows, []string{"the release page", address + demo.Name + "/"})
		}
		s.Print("%s", s.Table([]term.Column{{Title: "what"}, {Title: "where"}}, rows))
		if !stay {
			s.Print("\nThe release page has stopped. To see it: piedmont serve --data %s", data)
		}
	}
	if !stay {
		return nil
	}
	a.screen.Say("The release page runs until Ctrl-C")
	<-ctx.Done()
	return nil
}

// demoPage starts a release page and tells the sample project's configuration
// about it, by the variables that it names.
func (a *app) demoPage(ctx context.Context, data string) (address string, end func(), err error) {
	server, err := serve.New(ctx, serve.Options{Data: data, Limits: serve.DefaultLimits,
		Present: kinds.New(kinds.Options{}).Present})
	if err != nil {
		return "", nil, err
	}
	secret, err := serve.OpenTokens(data).Add("demo", []string{demo.Name},
		[]string{api.RightUpload, api.RightPublish}, time.Now())
	if err != nil {
		return "", nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	address = fmt.Sprintf("http://%s/", l.Addr())
	a.env = a.env.With("HUTBELL_PAGE="+strings.TrimSuffix(address, "/"), "HUTBELL_PAGE_TOKEN="+secret)
	a.step("A release page on this machine: "+address, "piedmont serve --data "+data)
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = server.Serve(serving, l) // it ends with the demo
	}()
	return address, func() { stop(); <-done; _ = server.Close() }, nil
}
