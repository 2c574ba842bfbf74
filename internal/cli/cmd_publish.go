package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/httpx"
	"piedmont/internal/check"
	"piedmont/internal/check/trial"
	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/make/outbox"
	"piedmont/internal/project/version"
	"piedmont/internal/publish"
)

// publishedAnswer is the JSON of what was published; docs/commands.md describes it.
type publishedAnswer struct {
	Project      string            `json:"project"`
	Version      string            `json:"version"`
	Destinations []publishedOnePer `json:"destinations"`
}

type publishedOnePer struct {
	Name    string  `json:"name"`
	Kind    string  `json:"kind"`
	Where   string  `json:"where"`
	Already bool    `json:"already_public"`
	Sent    int     `json:"files_sent"`
	Skipped int     `json:"files_there"`
	Bytes   int64   `json:"bytes_sent"`
	Seconds float64 `json:"seconds"`
}

func (a *app) publish() *cli.Command {
	var to []string
	return &cli.Command{
		Name: "publish", Category: groupWork,
		Usage: "brings the outbox to its destinations: draft, upload, verify, make public",
		Description: "A destination shows nothing of a release before all of it is there and\n" +
			"verified. Publishing again changes nothing; after a break it goes on where it\n" +
			"stopped.",
		Flags:    []cli.Flag{toFlag(&to)},
		Metadata: example("piedmont publish", "piedmont publish --to page"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			p, err := a.load(ctx)
			if err != nil {
				return err
			}
			targets, err := choose(p, to)
			if err != nil {
				return err
			}
			out, err := a.kept(p)
			if err != nil {
				return err
			}
			answer, err := a.publishTo(ctx, p, out, targets)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(answer)
			}
			a.showPublished(answer)
			return nil
		},
	}
}

func toFlag(into *[]string) cli.Flag {
	return &cli.StringSliceFlag{Name: "to", Usage: "publish to the destination `NAME` only; may be given again",
		Destination: into}
}

// choose picks the destinations: those that are named, else all that take this version.
func choose(p *loaded, names []string) ([]*publish.Keys, error) {
	all := publish.Of(p.doc)
	if len(all) == 0 {
		return nil, usage("no destination is described: add a [destination.NAME] to " + config.FileName)
	}
	var known []string
	for _, d := range all {
		known = append(known, d.Name)
	}
	var out []*publish.Keys
	for _, name := range names {
		d := publish.Find(p.doc, name)
		if d == nil {
			return nil, usage(fmt.Sprintf("there is no destination %q", name) + meant(name, known))
		}
		if p.plan.Preview && !d.Previews {
			return nil, previewRefused(p, name)
		}
		out = append(out, d)
	}
	if len(names) > 0 {
		return out, nil
	}
	for _, d := range all {
		if !p.plan.Preview || d.Previews {
			out = append(out, d)
		}
	}
	if len(out) == 0 {
		return nil, previewRefused(p, strings.Join(known, ", "))
	}
	return out, nil
}

func previewRefused(p *loaded, names string) error {
	fix := "Commit everything and tag the commit, or set previews = true for the destination"
	if p.plan.Reason == version.Untagged {
		fix = "Tag the commit, such as with: git tag " + version.Of(p.doc).Pattern.Tag("1.0.0") +
			"\nOr set previews = true for the destination"
	}
	return fault.Misuse(fmt.Sprintf("%s is a preview (%s), and %s takes none", p.plan.Version, p.plan.Why, names), fix)
}

// kept reads the outbox of the planned version from the disk.
func (a *app) kept(p *loaded) (*publish.Outbox, error) {
	out, err := publish.Load(outbox.Dir(p.doc.Dir, p.plan.Version))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, usage(fmt.Sprintf("there is no %s in the outbox: run \"piedmont make\" first", p.plan.Version))
	}
	return out, err
}

func (a *app) publishTo(ctx context.Context, p *loaded, out *publish.Outbox,
	targets []*publish.Keys) (publishedAnswer, error) {
	answer := publishedAnswer{Project: p.plan.Project.Name, Version: p.plan.Version}
	outstanding, err := trial.Outstanding(out.Dir, out.Manifest, trial.In(p.plan))
	if err != nil {
		return answer, err
	}
	if len(outstanding) > 0 {
		return answer, &fault.Error{Status: fault.Trial, Fix: "Run them with: piedmont try",
			What: "nothing was published: a required trial has not passed\n  " + strings.Join(outstanding, "\n  ")}
	}
	for _, t := range targets {
		d, err := p.kinds.Destinations.Open(ctx, p.doc, t.Name)
		if err != nil {
			return answer, fmt.Errorf("destination %q: %w", t.Name, err)
		}
		res, err := a.publishOne(ctx, out, t.Name, d)
		if err != nil {
			if len(targets) > 1 {
				return answer, fmt.Errorf("destination %q: %w%s", t.Name, err, sofar(answer))
			}
			return answer, err
		}
		answer.Destinations = append(answer.Destinations, publishedOnePer{t.Name, t.Kind, res.Where,
			res.Already, res.Sent, res.Skipped, res.Bytes, res.Took.Seconds()})
	}
	return answer, nil
}

func sofar(answer publishedAnswer) string {
	if len(answer.Destinations) == 0 {
		return ""
	}
	var names []string
	for _, d := range answer.Destinations {
		names = append(names, d.Name)
	}
	return fmt.Sprintf("\nIt is public at %s", strings.Join(names, ", "))
}

func (a *app) publishOne(ctx context.Context, out *publish.Outbox, name string,
	d publish.Destination) (*publish.Result, error) {
	sink, stop := a.screen.Progress(a.quiet, a.verbose)
	defer stop()
	return publish.Run(ctx, out, d, publish.Options{Name: name, Jobs: max(2, a.jobs),
		Patience: httpx.DefaultPatience, Events: sink})
}

func (a *app) showPublished(answer publishedAnswer) {
	s := a.screen
	var rows [][]string
	for _, d := range answer.Destinations {
		if a.quiet {
			s.Print("%s", d.Where)
			continue
		}
		how := fmt.Sprintf("%s sent, %s", term.Count(d.Sent, "file"), term.Size(d.Bytes))
		if d.Skipped > 0 && d.Sent > 0 {
			how += fmt.Sprintf(", %d were there", d.Skipped)
		}
		if d.Already {
			how = "it was public there already, with the same files"
		}
		where := d.Where
		if filepath.IsAbs(where) {
			where = a.shorten(where)
		}
		rows = append(rows, []string{d.Name, s.Paint(term.Name, where), how})
	}
	if len(rows) > 0 {
		s.Print("\n%s is public and verified", s.Paint(term.Bold, answer.Project+" "+answer.Version))
		s.Print("%s", s.Table([]term.Column{{Title: "destination"}, {Title: "where"}, {Title: "what was done"}}, rows))
	}
}

func (a *app) ship() *cli.Command {
	var to []string
	var noWait bool
	return &cli.Command{
		Name: "ship", Category: groupWork,
		Usage: "sees that all is ready, makes, tries and publishes, in one go",
		Description: "The same as \"piedmont ready\", \"piedmont make\", \"piedmont try\" and \"piedmont\n" +
			"publish\". It stops before the first compile when something stands in the way, and\n" +
			"before the first upload when a trial fails.",
		Flags:    []cli.Flag{toFlag(&to), noWaitFlag(&noWait)},
		Metadata: example("piedmont ship"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			return a.runShip(ctx, to, noWait)
		},
	}
}

func (a *app) runShip(ctx context.Context, to []string, noWait bool) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	targets, err := choose(p, to)
	if err != nil {
		return err
	}
	findings := a.check(ctx, p, a.readyProject(p, targets))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if check.Obstacles(findings) > 0 {
		return a.notReady(p.plan.Project.Name+" "+p.plan.Version, findings)
	}
	res, err := a.makeOutbox(ctx, p, noWait)
	if err != nil {
		return err
	}
	if !a.json && !a.quiet {
		a.showMade(res)
		a.showLeftOut(p.plan)
		a.screen.Print("")
	}
	tried, err := a.tryOutbox(ctx, p, res.Dir, res.Manifest, trial.In(p.plan))
	if err != nil {
		return err
	}
	if !a.json && !a.quiet && len(tried.Trials) > 0 {
		a.showTried(tried)
		a.screen.Print("")
	}
	if !tried.OK {
		return a.trialsFailed(tried)
	}
	answer, err := a.publishTo(ctx, p, &publish.Outbox{Dir: res.Dir, Manifest: res.Manifest,
		Encoded: res.Encoded}, targets)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"make": madeOf(res), "try": tried, "publish": answer})
	}
	a.showPublished(answer)
	return nil
}
