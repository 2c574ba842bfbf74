package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/fault"
	"piedmont/internal/check"
	"piedmont/internal/cli/term"
	"piedmont/internal/plan"
	"piedmont/internal/project"
	"piedmont/internal/publish"
)

// readyAnswer is the JSON of what stands in the way; docs/commands.md describes it.
type readyAnswer struct {
	Ready     bool            `json:"ready"`
	Version   string          `json:"version"`
	Obstacles int             `json:"obstacles"`
	Seconds   float64         `json:"seconds"` // all checks together
	Findings  []check.Finding `json:"findings"`
}

func (a *app) ready() *cli.Command {
	var to []string
	return &cli.Command{
		Name: "ready", Category: groupWork,
		Usage: "runs every check that can be run before a build, each with what mends it",
		Description: "It changes nothing, and one obstacle does not hide another. The exit status is 3\n" +
			"when something stands in the way of a release; what only advises does not count.",
		Flags: []cli.Flag{toFlag(&to)},
		Metadata: example("piedmont ready",
			"piedmont ready --json | jq -r '.findings[] | select(.state != \"ok\") | .mend'"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			return a.runReady(ctx, to)
		},
	}
}

func (a *app) runReady(ctx context.Context, to []string) error {
	file, err := a.configFile()
	if err != nil {
		return err
	}
	p, docErr, gitErr := a.read(ctx, file, true)
	if docErr != nil {
		return docErr
	}
	name := project.Of(p.doc).Name
	answer := readyAnswer{}
	if gitErr != nil {
		what, mend := fault.Parts(gitErr)
		answer.Findings = []check.Finding{{Check: "git", State: check.Obstacle, What: what, Mend: mend}}
	} else if err := a.look(ctx, p, to, &answer); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	answer.Obstacles = check.Obstacles(answer.Findings)
	answer.Ready = answer.Obstacles == 0
	title := strings.TrimSpace(name + " " + answer.Version)
	if a.json {
		if err := a.printJSON(answer); err != nil || answer.Ready {
			return err
		}
		return told{fault.NotReady}
	}
	if !answer.Ready {
		return a.notReady(title, answer.Findings)
	}
	a.showFindings(answer.Findings)
	a.screen.Print("\n%s is ready. Ship it with: %s", a.screen.Paint(term.Bold, title),
		a.screen.Paint(term.Name, "piedmont ship"))
	return nil
}

// look plans and makes all checks.
func (a *app) look(ctx context.Context, p *loaded, to []string, answer *readyAnswer) error {
	planErr := a.planOf(ctx, p)
	if planErr == nil {
		answer.Version = p.plan.Version
	}
	targets, err := chosen(p, to)
	if err != nil {
		return err
	}
	look := a.readyProject(p, targets)
	var faults plan.Errors
	if errors.As(planErr, &faults) {
		look.PlanErrors = faults
	} else if planErr != nil {
		look.PlanErrors = []string{planErr.Error()}
	}
	start := time.Now()
	answer.Findings = a.check(ctx, p, look)
	answer.Seconds = time.Since(start).Seconds()
	return nil
}

// check makes all checks. When they take long, it says why.
func (a *app) check(ctx context.Context, p *loaded, look *check.Project) []check.Finding {
	if !a.quiet {
		patience := time.AfterFunc(time.Second, func() {
			a.screen.Say("Checking. The first time, a trivial program is compiled for each platform; that " +
				"takes a while")
		})
		defer patience.Stop()
	}
	return check.Run(ctx, look, p.kinds.Checks())
}

// chosen are the destinations that are looked at: all that are named or known,
// also when they would refuse a preview, since what is missing there counts too.
func chosen(p *loaded, names []string) ([]*publish.Keys, error) {
	if len(names) == 0 {
		return publish.Of(p.doc), nil
	}
	return choose(&loaded{doc: p.doc, plan: &plan.Plan{}}, names)
}

func (a *app) readyProject(p *loaded, targets []*publish.Keys) *check.Project {
	out := &check.Project{Doc: p.doc, Facts: p.facts, Repo: a.repo(p.doc.Dir), Plan: p.plan,
		PreviewFits: len(targets) > 0}
	for _, t := range targets {
		out.PreviewFits = out.PreviewFits && t.Previews
		out.Destinations = append(out.Destinations, t.Name)
	}
	return out
}

// notReady shows the findings and gives the error for them.
func (a *app) notReady(title string, findings []check.Finding) error {
	if a.quiet || a.json {
		for _, f := range findings {
			if f.State == check.Obstacle {
				a.screen.Say("%s: %s\n  %s", f.Check, f.What, f.Mend)
			}
		}
	} else {
		a.showFindings(findings)
	}
	n := check.Obstacles(findings)
	stand := "stand"
	if n == 1 {
		stand = "stands"
	}
	a.screen.Say("")
	a.screen.Say("%s", a.screen.PaintErr(term.Bad, fmt.Sprintf("%s is not ready: %s %s in the way", title,
		term.Count(n, "obstacle"), stand)))
	return told{fault.NotReady}
}

func (a *app) showFindings(findings []check.Finding) {
	s := a.screen
	states := map[string]struct {
		word  string
		style term.Style
	}{check.OK: {"ok", term.Good}, check.Advice: {"advice", term.Warn}, check.Obstacle: {"obstacle", term.Bad}}
	wide := 0
	for _, f := range findings {
		wide = max(wide, len(f.Check))
	}
	for _, f := range findings {
		st := states[f.State]
		what, more, _ := strings.Cut(f.What, "\n")
		s.Print("  %s%s  %-*s  %s", s.Paint(st.style, st.word), strings.Repeat(" ", 8-len(st.word)), wide,
			f.Check, printable(what))
		indent := strings.Repeat(" ", 2+8+2+wide+2)
		if more != "" {
			for _, line := range strings.Split(more, "\n") {
				s.Print("%s%s", indent, line)
			}
		}
		if f.Mend != "" {
			s.Print("%s%s", indent, s.Paint(term.Name, f.Mend))
		}
	}
}
