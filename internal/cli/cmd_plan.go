package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/cli/term"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/plan"
)

func (a *app) plan() *cli.Command {
	return &cli.Command{
		Name: "plan", Category: groupWork,
		Usage: "shows every file that will be made, from what, and where it will go",
		Description: "It touches nothing. Names that collide and patterns that match nothing are\n" +
			"errors here, before anything is compiled. With --verbose it lists what each\n" +
			"pattern matched, how the compiler will be called, and what each package holds\n" +
			"and needs.",
		Metadata: example("piedmont plan", "piedmont plan --json | jq -r '.files[].name'"),
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
	for _, f := range p.Artifacts {
		to := strings.Join(f.To, ", ")
		if to == "" {
			to = s.Paint(term.Soft, "the outbox only")
		}
		rows = append(rows, []string{f.Name, f.Kind, f.Platform, f.MadeFrom, to})
	}
	s.Print("%s", s.Table([]term.Column{{Title: "file"}, {Title: "kind"}, {Title: "platform"},
		{Title: "made from"}, {Title: "goes to"}}, rows))
	if a.verbose {
		a.showPlanDetails(p)
	}
	programs := 0
	for _, b := range p.Builds {
		programs += len(b.Programs)
	}
	a.showLeftOut(p)
	s.Print("")
	s.Print("%s; %s to make in %s", term.Count(len(p.Artifacts), "file"), term.Count(programs, "program"),
		term.Count(len(p.Builds), "run"))
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
			if detail := b.Job.Detail(); detail != "" {
				line += s.Paint(term.Soft, "  "+detail)
			}
			s.Print("%s", line)
		}
	}
	a.showPackagesPlanned(linuxpkg.In(p))
}

// showPackagesPlanned shows what each package holds, and its relations in the
// words of its format. Packages that are so for several platforms come once.
func (a *app) showPackagesPlanned(packages []*linuxpkg.Planned) {
	s := a.screen
	if len(packages) > 0 {
		s.Print("\n%s", s.Paint(term.Bold, "What packages hold and say"))
	}
	archs := map[[2]string][]string{}
	for _, p := range packages {
		key := [2]string{p.Table, p.Format}
		archs[key] = append(archs[key], p.Arch)
	}
	for _, p := range packages {
		key := [2]string{p.Table, p.Format}
		if archs[key][0] != p.Arch {
			continue
		}
		s.Print("\n%s %s  %s", p.Name, p.Version, s.Paint(term.Soft, p.Format+" for "+strings.Join(archs[key], ", ")))
		var rows [][]string
		for _, e := range p.Entries {
			path, about := "/"+e.Path, e.From
			switch {
			case e.Dir:
				path += "/"
			case e.Link != "":
				about = "link to " + e.Link
			case e.Build != "":
				about = "program"
			case e.Gzip:
				about = "compressed here"
			case e.From == "":
				about = "written here"
			}
			if e.Keep {
				about += ", kept by upgrades"
			}
			rows = append(rows, []string{e.Mode, e.Owner + ":" + e.Group, path, about})
		}
		if len(rows) > 0 {
			s.Print("%s", s.Table([]term.Column{{Title: "mode"}, {Title: "owner"}, {Title: "path"},
				{Title: "from"}}, rows))
		}
		for _, key := range []string{"needs", "recommends", "suggests", "conflicts", "replaces", "provides"} {
			list := p.Relations[key]
			if key == "needs" && p.AutoNeeds {
				list = append(slices.Clone(list), "and what its programs need")
			}
			if len(list) > 0 {
				s.Print("  %s %s", s.Paint(term.Soft, key), strings.Join(list, ", "))
			}
		}
	}
}
