package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/fault"
	"piedmont/internal/cli/term"
	"piedmont/internal/project"
	"piedmont/internal/project/changelog"
	"piedmont/internal/project/cut"
)

// cutAnswer is the JSON of a cut; docs/commands.md describes it.
type cutAnswer struct {
	Last     string      `json:"last"`
	Version  string      `json:"version"`
	Tag      string      `json:"tag"`
	Change   string      `json:"change"`
	Because  []cutReason `json:"because"`
	Others   []cutReason `json:"not_conventional"`
	Section  string      `json:"section"`
	Files    []string    `json:"files"`
	Reviewed bool        `json:"reviewed"`
	Done     bool        `json:"done"`
	Branch   string      `json:"branch,omitempty"`
}

type cutReason struct {
	Commit  string `json:"commit"`
	Subject string `json:"subject"`
}

type cutOptions struct {
	as, branch string
	yes, dry   bool
}

func (a *app) cut() *cli.Command {
	var o cutOptions
	return &cli.Command{
		Name: "cut", Category: groupWork,
		Usage: "decides the next version from the commits, writes the changelog, commits and tags",
		Description: "It reads the commits since the last release as Conventional Commits 1.0, and\n" +
			"shows the version, why it is that one, the changelog's new section, and every\n" +
			"edit. Then it asks. When a step fails, files, index, branch and tags are as they\n" +
			"were. Nothing is pushed.\n\n" +
			"With --to-branch the same is prepared as a commit for review, without a tag;\n" +
			"when it is merged, \"piedmont cut\" only tags what was reviewed.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as", Usage: "cut `VERSION`, or major, minor, patch or rc, whatever the " +
				"commits say", Destination: &o.as},
			&cli.BoolFlag{Name: "yes", Usage: "do it without asking", Destination: &o.yes},
			&cli.BoolFlag{Name: "dry-run", Usage: "show it and change nothing", Destination: &o.dry},
			&cli.StringFlag{Name: "to-branch",
				Usage: "prepare it as a commit on the new branch `NAME`, without a tag", Destination: &o.branch},
		},
		Metadata: example("piedmont cut", "piedmont cut --as rc --yes", "piedmont cut --to-branch next-release"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			return a.runCut(ctx, o)
		},
	}
}

func (a *app) runCut(ctx context.Context, o cutOptions) error {
	file, err := a.configFile()
	if err != nil {
		return err
	}
	described, err := a.describe(ctx, file, false)
	if err != nil {
		return err
	}
	doc := described.doc
	p, err := cut.Prepare(ctx, doc, cut.Options{As: o.as, Now: a.now(), Env: a.env})
	if err != nil {
		return err
	}
	answer := answerOf(p, o)
	if p.Version == "" {
		if a.json {
			return a.printJSON(answer)
		}
		a.screen.Print("Nothing to release since %s: %s", p.Last, nothing(p))
		return nil
	}
	if !a.json && !a.quiet {
		a.showProposal(project.Of(doc).Name, p)
	}
	if o.dry {
		if a.json {
			return a.printJSON(answer)
		}
		a.screen.Print("\nNothing was changed.")
		return nil
	}
	if !o.yes {
		if err := a.ask(p, o); err != nil {
			return err
		}
	}
	if o.branch != "" {
		err = p.OnBranch(ctx, doc, o.branch)
	} else {
		err = p.Apply(ctx, doc)
	}
	if err != nil {
		return fmt.Errorf("%w\nNothing was changed", err)
	}
	answer.Done = true
	if a.json {
		return a.printJSON(answer)
	}
	a.showCut(p, o)
	return nil
}

func answerOf(p *cut.Proposal, o cutOptions) cutAnswer {
	out := cutAnswer{Last: p.Last, Version: p.Version, Tag: p.Tag, Change: p.Decision.Change,
		Section: p.Section, Reviewed: p.Reviewed, Branch: o.branch,
		Because: []cutReason{}, Others: []cutReason{}, Files: []string{}}
	for _, c := range p.Decision.Because {
		out.Because = append(out.Because, cutReason{c.Commit.ID, c.Subject})
	}
	for _, c := range p.Changes {
		if !c.Conventional() {
			out.Others = append(out.Others, cutReason{c.Commit.ID, c.Subject})
		}
	}
	for _, e := range p.Edits {
		out.Files = append(out.Files, e.File)
	}
	return out
}

func nothing(p *cut.Proposal) string {
	if len(p.Changes) == 0 {
		return "there are no commits"
	}
	return fmt.Sprintf("%s, and none of them asks for a release\nCut one all the same with: piedmont cut "+
		"--as patch", term.Count(len(p.Changes), "commit"))
}

func (a *app) showProposal(name string, p *cut.Proposal) {
	s := a.screen
	from := p.Last + " → "
	if p.Last == "" {
		from = "the first release, "
	}
	s.Print("%s %s%s", name, from, s.Paint(term.Bold, p.Version))
	switch {
	case p.Reviewed:
		s.Print("It was prepared and reviewed; only the tag %s is missing.", p.Tag)
		return
	case p.Asked:
		s.Print("You asked for this version.")
	case p.Last == "":
		s.Print("No earlier version is tagged. Begin with another one with --as VERSION.")
	default:
		why := map[string]string{changelog.Major: "something breaks", changelog.Minor: "something is new",
			changelog.Patch: "something is mended"}[p.Decision.Change]
		if p.Decision.Early {
			why += "; before 1.0.0 that is a minor release"
		}
		s.Print("Because %s:", why)
		a.list(p.Decision.Because)
	}
	var others []changelog.Change
	for _, one := range p.Changes {
		if !one.Conventional() {
			others = append(others, one)
		}
	}
	if len(others) > 0 {
		s.Print("%s", s.Paint(term.Warn, term.Count(len(others), "commit")+" outside of the convention, "+
			"which counted for nothing:"))
		a.list(others)
	}
	for _, e := range p.Edits {
		s.Print("")
		for _, line := range strings.Split(strings.TrimRight(e.Diff(), "\n"), "\n") {
			switch {
			case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"):
				line = s.Paint(term.Bold, line)
			case strings.HasPrefix(line, "+"):
				line = s.Paint(term.Good, line)
			case strings.HasPrefix(line, "-"):
				line = s.Paint(term.Bad, line)
			case strings.HasPrefix(line, ""):
				line = s.Paint(term.Soft, line)
			}
			s.Print("%s", line)
		}
	}
}

// list shows commits, at most ten.
func (a *app) list(commits []changelog.Change) {
	s := a.screen
	for i, c := range commits {
		if i == 10 && !a.verbose {
			s.Print("  and %d more", len(commits)-i)
			return
		}
		s.Print("  %s %s", s.Paint(term.Soft, c.Commit.ID[:8]), printable(c.Subject))
	}
}

// ask lets a person decide. Where nobody can answer, it says how to go on.
func (a *app) ask(p *cut.Proposal, o cutOptions) error {
	if !a.screen.Live || !term.Is(a.in) {
		return usage("nobody can be asked here: add --yes to do it, or --dry-run to look only")
	}
	what := fmt.Sprintf("commit and tag %s", p.Tag)
	switch {
	case p.Reviewed:
		what = "tag " + p.Tag
	case o.branch != "":
		what = "commit it on the branch " + o.branch
	}
	_, _ = fmt.Fprintf(a.screen.Err, "\n%s [y/N] ", a.screen.PaintErr(term.Bold, "Shall I "+what+"?"))
	answer, _ := bufio.NewReader(a.in).ReadString('\n')
	if word := strings.ToLower(strings.TrimSpace(answer)); word != "y" && word != "yes" {
		return fault.New("nothing was changed", "")
	}
	return nil
}

func (a *app) showCut(p *cut.Proposal, o cutOptions) {
	s := a.screen
	if a.quiet {
		s.Print("%s", p.Version)
		return
	}
	if o.branch != "" {
		s.Print("\n%s is prepared on the branch %s. When it is merged, tag it with: %s",
			s.Paint(term.Bold, p.Version), o.branch, s.Paint(term.Name, "piedmont cut"))
		return
	}
	s.Print("\n%s is cut and tagged %s. Ship it with: %s", s.Paint(term.Bold, p.Version), p.Tag,
		s.Paint(term.Name, "piedmont ship"))
}
