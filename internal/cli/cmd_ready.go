package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"piedmont/internal/check/preflight"
	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/publish"
)

// readyAnswer is the JSON of what stands in the way; docs/commands.md describes it.
type readyAnswer struct {
	Ready     bool                `json:"ready"`
	Version   string              `json:"version"`
	Obstacles int                 `json:"obstacles"`
	Seconds   float64             `json:"seconds"` // all checks together
	Findings  []preflight.Finding `json:"findings"`
}

func (a *app) ready() *cli.Command {
	var to []string
	return &cli.Command{
		Name: "ready", Category: groupWork,
		Usage:       "runs every check that can be run before a build, each with what mends it",
		Description: "It changes nothing, and one obstacle does not hide another. The exit status is 3\nwhen something stands in the way of a release; what only advises does not count.",
		Flags:       []cli.Flag{toFlag(&to)},
		Metadata:    example("piedmont ready", "piedmont ready --json | jq -r '.findings[] | select(.state != \"ok\") | .mend'"),
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
	c, facts, configErr, gitErr := a.read(ctx, file, true)
	if configErr != nil {
		return configErr
	}
	title := c.Project.Name
	var findings []preflight.Finding
	var took time.Duration
	if gitErr != nil {
		what, mend, _ := strings.Cut(gitErr.Error(), ": ")
		findings = []preflight.Finding{{Check: "git", State: preflight.Obstacle, What: what, Mend: mend}}
	} else {
		finder := a.finder(c)
		p, planErr := planOf(ctx, c, facts, finder)
		if planErr == nil {
			title += " " + p.Version
		}
		targets, err := chosen(c, p, to)
		if err != nil {
			return err
		}
		project := a.readyProject(c, facts, p, targets, finder)
		var faults plan.Errors
		if errors.As(planErr, &faults) {
			project.PlanErrors = faults
		} else if planErr != nil {
			project.PlanErrors = []string{planErr.Error()}
		}
		start := time.Now()
		findings = a.check(ctx, project)
		took = time.Since(start)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	n := preflight.Obstacles(findings)
	if a.json {
		answer := readyAnswer{Ready: n == 0, Obstacles: n, Seconds: took.Seconds(), Findings: findings, Version: strings.TrimPrefix(strings.TrimPrefix(title, c.Project.Name), " ")}
		if err := a.printJSON(answer); err != nil || n == 0 {
			return err
		}
		return &statusError{code: statusNotReady, err: errors.New("not ready"), silent: true}
	}
	if n > 0 {
		return a.notReady(title, findings)
	}
	a.showFindings(findings)
	a.screen.Print("\n%s is ready. Ship it with: %s", a.screen.Paint(term.Bold, title), a.screen.Paint(term.Name, "piedmont ship"))
	return nil
}

// check makes all checks. When they take long, it says why.
func (a *app) check(ctx context.Context, p *preflight.Project) []preflight.Finding {
	if !a.quiet {
		patience := time.AfterFunc(time.Second, func() {
			a.screen.Say("Checking. The first time, a trivial program is compiled for each platform; that takes a while")
		})
		defer patience.Stop()
	}
	return preflight.Run(ctx, p, preflight.Checks)
}

// chosen are the destinations that are looked at: all that are named or known,
// also when they would refuse a preview, since what is missing there counts too.
func chosen(c *config.Config, p *plan.Plan, names []string) ([]*config.Destination, error) {
	if len(names) == 0 {
		return c.Destinations, nil
	}
	return choose(&project{config: c, plan: &plan.Plan{}}, names)
}

func (a *app) readyProject(c *config.Config, facts git.Facts, p *plan.Plan, targets []*config.Destination, finder *toolchain.Finder) *preflight.Project {
	fits := len(targets) > 0
	for _, t := range targets {
		fits = fits && t.Previews
	}
	return &preflight.Project{Config: c, Facts: facts, Repo: git.Repo{Dir: c.Dir}, Plan: p, Tools: a.tools, Finder: finder, Targets: targets, PreviewFits: fits,
		Open: func(ctx context.Context, d *config.Destination) (publish.Destination, error) {
			return openDestination(ctx, c.Dir, d)
		}}
}

// notReady shows the findings and gives the error for them.
func (a *app) notReady(title string, findings []preflight.Finding) error {
	if a.quiet || a.json {
		for _, f := range findings {
			if f.State == preflight.Obstacle {
				a.screen.Say("%s: %s\n  %s", f.Check, f.What, f.Mend)
			}
		}
	} else {
		a.showFindings(findings)
	}
	n := preflight.Obstacles(findings)
	stand := "stand"
	if n == 1 {
		stand = "stands"
	}
	a.screen.Say("")
	a.screen.Say("%s", a.screen.PaintErr(term.Bad, fmt.Sprintf("%s is not ready: %s %s in the way", title, term.Count(n, "obstacle"), stand)))
	return &statusError{code: statusNotReady, err: errors.New("not ready"), silent: true}
}

func (a *app) showFindings(findings []preflight.Finding) {
	s := a.screen
	states := map[string]struct {
		word  string
		style term.Style
	}{preflight.OK: {"ok", term.Good}, preflight.Advice: {"advice", term.Warn}, preflight.Obstacle: {"obstacle", term.Bad}}
	wide := 0
	for _, f := range findings {
		wide = max(wide, len(f.Check))
	}
	for _, f := range findings {
		st := states[f.State]
		what, more, _ := strings.Cut(f.What, "\n")
		s.Print("  %s%s  %-*s  %s", s.Paint(st.style, st.word), strings.Repeat(" ", 8-len(st.word)), wide, f.Check, printable(what))
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
