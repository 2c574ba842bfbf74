package cli

import (
	"context"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"piedmont/internal/cli/term"
	"piedmont/internal/make/outbox"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// madeAnswer is the JSON of what was made; docs/commands.md describes it.
type madeAnswer struct {
	Project   string     `json:"project"`
	Version   string     `json:"version"`
	Preview   bool       `json:"preview"`
	Folder    string     `json:"folder"`
	Manifest  string     `json:"manifest"`
	Unchanged bool       `json:"unchanged"`
	Seconds   float64    `json:"seconds"`
	Files     []madeFile `json:"files"`
}

type madeFile struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Platform string `json:"platform,omitempty"`
	Size     int64  `json:"size"`
	SHA256   string `json:"sha256"`
}

func (a *app) make() *cli.Command {
	var noWait bool
	return &cli.Command{
		Name: "make", Category: groupWork,
		Usage: "builds, packs, sums and writes the manifest: fills the outbox",
		Description: "The files end in outbox/VERSION, which appears as a whole or not at all. What\n" +
			"has not changed since an earlier run is not made again.",
		Flags:    []cli.Flag{noWaitFlag(&noWait)},
		Metadata: example("piedmont make", "piedmont make --jobs 4 --json"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			p, err := a.load(ctx)
			if err != nil {
				return err
			}
			res, err := a.makeOutbox(ctx, p, noWait)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(madeOf(res))
			}
			a.showMade(res)
			a.showLeftOut(p.plan)
			return nil
		},
	}
}

func noWaitFlag(into *bool) cli.Flag {
	return &cli.BoolFlag{Name: "no-wait", Usage: "fail at once when another run works in this project, and " +
		"say which", Destination: into}
}

func (a *app) makeOutbox(ctx context.Context, p *loaded, noWait bool) (*outbox.Result, error) {
	sink, stop := a.screen.Progress(a.quiet, a.verbose)
	defer stop()
	p.kinds.Finder.Events = sink
	return outbox.Make(ctx, p.plan, outbox.Options{Root: p.doc.Dir, Jobs: a.jobs, Makers: p.kinds.Makers(),
		Command: a.words, NoWait: noWait, Env: a.env, Events: sink})
}

// showLeftOut names what this machine could not make, where that was allowed.
func (a *app) showLeftOut(p *plan.Plan) {
	for _, l := range p.LeftOut {
		a.screen.Print("%s %s for %s: %s", a.screen.Paint(term.Warn, "left out:"), l.Program, l.Platform, l.Why)
	}
}

func madeOf(r *outbox.Result) madeAnswer {
	out := madeAnswer{Project: r.Manifest.Project.Name, Version: r.Version, Preview: r.Manifest.Preview, Folder: r.Dir,
		Manifest: filepath.Join(r.Dir, release.Name), Unchanged: r.Unchanged, Seconds: r.Took.Seconds()}
	for _, f := range r.Manifest.Files {
		out.Files = append(out.Files, madeFile{f.Name, f.Kind, f.Platform, f.Size, f.SHA256})
	}
	return out
}

func (a *app) showMade(r *outbox.Result) {
	s := a.screen
	if a.quiet {
		s.Print("%s", r.Dir)
		return
	}
	s.Print("%s", a.fileTable(r.Manifest))
	var total int64
	for _, f := range r.Manifest.Files {
		total += f.Size
	}
	s.Print("")
	how := "made in " + term.Took(r.Took)
	if r.Unchanged {
		how = "unchanged, seen in " + term.Took(r.Took)
	}
	s.Print("%s: %s, %s, %s", s.Paint(term.Bold, r.Manifest.Project.Name+" "+r.Version),
		term.Count(len(r.Manifest.Files), "file"), term.Size(total), how)
	s.Print("They are in %s, with %s and %s", s.Paint(term.Name, a.shorten(r.Dir)), release.Name, release.SumsName)
}

func (a *app) fileTable(m *release.Manifest) string {
	var rows [][]string
	for _, f := range m.Files {
		rows = append(rows, []string{f.Name, f.Kind, f.Platform, term.Size(f.Size), f.SHA256[:12]})
	}
	return a.screen.Table([]term.Column{{Title: "file"}, {Title: "kind"}, {Title: "platform"},
		{Title: "size", Right: true}, {Title: "sha-256 begins"}}, rows)
}

// shorten writes a path as seen from the current folder where that is shorter.
func (a *app) shorten(path string) string {
	rel, err := filepath.Rel(a.dir, path)
	if err != nil || len(rel) >= len(path) || rel == "." {
		return path
	}
	return rel
}
