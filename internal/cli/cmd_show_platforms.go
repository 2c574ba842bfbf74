package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/platform"
	"piedmont/internal/check/trial"
	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/project"
)

// platformAnswer is the JSON of one platform; docs/commands.md describes it.
type platformAnswer struct {
	Platform  string   `json:"platform"`
	Programs  []string `json:"programs"`
	Compilers []string `json:"compilers"` // version, or path where it does not say
	From      []string `json:"from"`      // for each of them; "" for the Go toolchain
	Emulator  string   `json:"emulator,omitempty"`
	Missing   []string `json:"missing,omitempty"`
	Mend      []string `json:"mend,omitempty"`
}

func (a *app) showPlatforms() *cli.Command {
	return &cli.Command{
		Name: "platforms", Usage: "lists every platform of the project: which compiler, from where, which " +
			"emulator, what is missing",
		Metadata: example("piedmont show platforms", "piedmont show platforms --json"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			return a.runPlatforms(ctx)
		},
	}
}

func (a *app) runPlatforms(ctx context.Context) error {
	file, err := a.configFile()
	if err != nil {
		return err
	}
	p, err := a.describe(ctx, file, false)
	if err != nil {
		return err
	}
	list := []platformAnswer{}
	for _, on := range platformsOf(p.doc) {
		one, err := a.onePlatform(ctx, p, on)
		if err != nil {
			return err
		}
		list = append(list, one)
	}
	name := project.Of(p.doc).Name
	if a.json {
		return a.printJSON(map[string]any{"project": name, "platforms": list})
	}
	a.printPlatforms(name, list)
	return nil
}

func platformsOf(d *config.Document) []platform.Platform {
	var out []platform.Platform
	for _, p := range lang.Programs(d) {
		for _, on := range p.Platforms.List {
			if !slices.Contains(out, on) {
				out = append(out, on)
			}
		}
	}
	return out
}

func (a *app) onePlatform(ctx context.Context, all *loaded, on platform.Platform) (platformAnswer, error) {
	one := platformAnswer{Platform: on.String(), Programs: []string{}, Compilers: []string{}, From: []string{}}
	for _, p := range lang.Programs(all.doc) {
		if !slices.Contains(p.Platforms.List, on) {
			continue
		}
		one.Programs = append(one.Programs, p.Name)
		version, err := all.kinds.Programs.CompilerOf(ctx, all.doc.Dir, p)
		if err != nil {
			return one, err
		}
		if version != "" {
			one.compiler(version, "")
		}
		if !p.CallsCompiler() {
			continue
		}
		cc, err := all.kinds.Finder.Find(ctx, on, toolchain.Options{Name: p.Building().Toolchain})
		var unfetched *toolchain.NotFetchedError
		switch {
		case errors.Is(err, toolchain.ErrMissing):
			one.miss(fault.Parts(err))
		case errors.As(err, &unfetched):
			one.compiler(fmt.Sprintf("[toolchain.%s]", unfetched.Name), "an archive that is still to be fetched")
		case err != nil:
			return one, err
		default:
			one.compiler(shortVersion(cc), cc.From)
		}
	}
	name, why, mend := trial.Emulator(on)
	one.Emulator = name
	if why != "" {
		one.miss(why, mend)
	}
	return one, nil
}

func (p *platformAnswer) compiler(version, from string) {
	if !slices.Contains(p.Compilers, version) {
		p.Compilers, p.From = append(p.Compilers, version), append(p.From, from)
	}
}

func (p *platformAnswer) miss(what, mend string) {
	if !slices.Contains(p.Missing, what) {
		p.Missing, p.Mend = append(p.Missing, what), append(p.Mend, mend)
	}
}

// shortVersion is what a compiler says of itself, without its own name's triplet
// and the packaging: "gcc 12.2.0".
func shortVersion(cc *toolchain.Compiler) string {
	line := strings.TrimPrefix(cc.Version(), cc.Triplet+"-")
	if name, rest, ok := strings.Cut(line, " ("); ok {
		if _, number, ok := strings.Cut(rest, ") "); ok {
			number, _, _ = strings.Cut(number, " ")
			return name + " " + number
		}
	}
	return line
}

func (a *app) printPlatforms(name string, list []platformAnswer) {
	s := a.screen
	var rows [][]string
	for _, p := range list {
		emulator := s.Paint(term.Warn, "nothing")
		if p.Emulator != "" {
			emulator = p.Emulator
		}
		compilers := strings.Join(p.Compilers, ", ")
		if compilers == "" {
			compilers = s.Paint(term.Warn, "none")
		}
		// Go's own name says where it is from.
		from := strings.Join(slices.DeleteFunc(slices.Clone(p.From), func(s string) bool { return s == "" }), ", ")
		rows = append(rows, []string{p.Platform, strings.Join(p.Programs, ", "), compilers, from, emulator})
	}
	s.Print("%s", s.Table([]term.Column{{Title: "platform"}, {Title: "programs"}, {Title: "compiled by"},
		{Title: "from"}, {Title: "tried by"}}, rows))
	type gap struct{ what, mend string }
	var gaps []gap
	where := map[gap][]string{}
	for _, p := range list {
		for i, what := range p.Missing {
			g := gap{what, p.Mend[i]}
			if where[g] == nil {
				gaps = append(gaps, g)
			}
			where[g] = append(where[g], p.Platform)
		}
	}
	if len(gaps) == 0 {
		s.Print("\n%s: nothing is missing on this machine", s.Paint(term.Bold, name))
		return
	}
	s.Print("\n%s", s.Paint(term.Bold, "What is missing on this machine"))
	for _, g := range gaps {
		s.Print("  %s: %s", strings.Join(where[g], ", "), g.what)
		if g.mend != "" {
			s.Print("    %s", s.Paint(term.Name, g.mend))
		}
	}
}
