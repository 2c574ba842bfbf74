package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/plan"
	"piedmont/internal/term"
)

func (a *app) plan() *cli.Command {
	return &cli.Command{
		Name: "plan", Category: groupWork,
		Usage:       "shows every file that will be made, from what, and where it will go",
		Description: "It touches nothing. Names that collide and patterns that match nothing are\nerrors here, before anything is compiled. With --verbose it lists what each\npattern matched and how the compiler will be called.",
		Metadata:    example("piedmont plan", "piedmont plan --json | jq -r '.files[].name'"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			p, err := a.load(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(p.plan)
			}
			a.showPlan(p.plan)
			return nil
		},
	}
}

func (a *app) showPlan(p *plan.Plan) {
	s := a.screen
	s.Print("%s", a.headline(p))
	s.Print("")
	var rows [][]string
	for _, f := range p.Files {
		to := strings.Join(f.To, ", ")
		if to == "" {
			to = s.Paint(term.Soft, "the outbox only")
		}
		rows = append(rows, []string{f.Name, f.Kind, f.Platform, f.From, to})
	}
	s.Print("%s", s.Table([]term.Column{{Title: "file"}, {Title: "kind"}, {Title: "platform"}, {Title: "made from"}, {Title: "goes to"}}, rows))
	if a.verbose {
		a.showPlanDetails(p)
	}
	programs := 0
	for _, b := range p.Builds {
		programs += len(b.Programs)
	}
	a.showLeftOut(p)
	s.Print("")
	s.Print("%s; %s to make in %s", term.Count(len(p.Files), "file"), term.Count(programs, "program"), term.Count(len(p.Builds), "run"))
	if len(p.Destinations) == 0 {
		return
	}
	rows = nil
	for _, d := range p.Destinations {
		note := ""
		if !d.Takes {
			note = s.Paint(term.Warn, "it takes no previews")
		}
		rows = append(rows, []string{d.Name, strings.ReplaceAll(d.Kind, "-", " "), d.Where, note})
	}
	s.Print("")
	s.Print("%s", s.Table([]term.Column{{Title: "destination"}, {Title: "kind"}, {Title: "where"}, {Title: ""}}, rows))
}

// headline names the release; for a preview it says why it is one.
func (a *app) headline(p *plan.Plan) string {
	s := a.screen
	commit := p.Commit.ID[:min(8, len(p.Commit.ID))]
	line := s.Paint(term.Bold, p.Project.Name+" "+p.Version)
	if p.Preview {
		return line + s.Paint(term.Warn, "  a preview: "+p.Why)
	}
	return line + s.Paint(term.Soft, fmt.Sprintf("  tag %s, commit %s", p.Tag, commit))
}

func (a *app) showPlanDetails(p *plan.Plan) {
	s := a.screen
	if len(p.Matches) > 0 {
		s.Print("\n%s", s.Paint(term.Bold, "What the patterns matched"))
		for _, m := range p.Matches {
			s.Print("  %s: %s", m.Bundle, m.Pattern)
			for _, f := range m.Files {
				s.Print("    %s", f)
			}
		}
	}
	if len(p.Builds) > 0 {
		s.Print("\n%s", s.Paint(term.Bold, "Runs of compilers"))
		for _, b := range p.Builds {
			var names []string
			for _, o := range b.Programs {
				names = append(names, cmp.Or(o.File, o.Program))
			}
			line := fmt.Sprintf("  %s: %s", b.Target, strings.Join(names, ", "))
			if b.Go != nil && len(b.Go.Stamp) > 0 {
				line += s.Paint(term.Soft, "  "+strings.Join(b.Go.Stamp, " "))
			}
			if b.C != nil {
				line += s.Paint(term.Soft, "  "+term.Count(len(b.C.Sources), "source"))
			}
			s.Print("%s", line)
		}
	}
}
