package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/platform"
	"piedmont/internal/check/trial"
	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/release"
)

// triedAnswer is the JSON of trials; docs/commands.md describes it.
type triedAnswer struct {
	Project  string         `json:"project"`
	Version  string         `json:"version"`
	OK       bool           `json:"ok"`
	Passed   int            `json:"passed"`
	Failed   int            `json:"failed"`
	NotTried int            `json:"not_tried"`
	Seconds  float64        `json:"seconds"`
	Trials   []trial.Result `json:"trials"`
}

func (a *app) try() *cli.Command {
	var names, platforms []string
	return &cli.Command{
		Name: "try", Category: groupWork,
		Usage: "runs the trials on the files of the outbox, each in a clean place",
		Description: "Each archive is unpacked into an empty folder, and the trial's command runs there\n" +
			"with an empty home and, where the system allows it, no network: natively, by QEMU\n" +
			"for other processors, by Wine for Windows. The exit status is 4 when a trial\n" +
			"fails, or when one that is required cannot be run here.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "trial", Usage: "run the trial `NAME` only; may be given again",
				Destination: &names},
			&cli.StringSliceFlag{Name: "platform",
				Usage: "run the trials of `PLATFORM` only; may be given again", Destination: &platforms},
		},
		Metadata: example("piedmont try", "piedmont try --trial says-its-version --platform linux/arm64"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			return a.runTry(ctx, names, platforms)
		},
	}
}

func (a *app) runTry(ctx context.Context, names, platforms []string) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	if len(trial.Of(p.doc)) == 0 {
		return usage("no trial is described: add a [trial.NAME] to " + config.FileName)
	}
	trials, err := chosenTrials(p, names, platforms)
	if err != nil {
		return err
	}
	out, err := a.kept(p)
	if err != nil {
		return err
	}
	answer, err := a.tryOutbox(ctx, p, out.Dir, out.Manifest, trials)
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(answer); err != nil || answer.OK {
			return err
		}
		return told{fault.Trial}
	}
	if !a.quiet {
		a.showTried(answer)
	}
	if !answer.OK {
		return a.trialsFailed(answer)
	}
	return nil
}

// chosenTrials picks those that are named.
func chosenTrials(p *loaded, names, platforms []string) ([]trial.Trial, error) {
	var knownNames, knownPlatforms []string
	for _, t := range trial.Of(p.doc) {
		knownNames = append(knownNames, t.Name)
	}
	for _, t := range trial.In(p.plan) {
		if !slices.Contains(knownPlatforms, t.Platform) {
			knownPlatforms = append(knownPlatforms, t.Platform)
		}
	}
	for what, list := range map[string][2][]string{"trial": {names, knownNames},
		"trial for the platform": {platforms, knownPlatforms}} {
		for _, name := range list[0] {
			if slices.Contains(list[1], name) {
				continue
			}
			return nil, usage(fmt.Sprintf("there is no %s %q", what, name) + meant(name, list[1]))
		}
	}
	return slices.DeleteFunc(slices.Clone(trial.In(p.plan)), func(t trial.Trial) bool {
		return len(names) > 0 && !slices.Contains(names, t.Name) || len(platforms) > 0 &&
			!slices.Contains(platforms, t.Platform)
	}), nil
}

// tryOutbox runs trials and keeps their results beside the files.
func (a *app) tryOutbox(ctx context.Context, p *loaded, dir string, m *release.Manifest,
	trials []trial.Trial) (triedAnswer, error) {
	answer := triedAnswer{Project: p.plan.Project.Name, Version: p.plan.Version, OK: true, Trials: []trial.Result{}}
	if len(trials) == 0 {
		return answer, nil
	}
	start := time.Now()
	sink, stop := a.screen.Progress(a.quiet, a.verbose)
	defer stop()
	cache, err := a.env.Cache()
	if err != nil {
		cache = filepath.Join(os.TempDir(), "piedmont")
	}
	results, err := trial.Run(ctx, dir, m, trials, trial.Options{Jobs: a.jobs, Events: sink, Cache: cache, Env: a.env,
		Readers: p.kinds.Readers(), Sysroot: sysroots(ctx, p.kinds.Finder)})
	if err != nil {
		return answer, err
	}
	if err := trial.Save(dir, m, results); err != nil {
		return answer, err
	}
	answer.Trials, answer.Seconds = results, time.Since(start).Seconds()
	for _, r := range results {
		answer.OK = answer.OK && !r.Bad()
		switch r.State {
		case trial.Passed:
			answer.Passed++
		case trial.Failed:
			answer.Failed++
		default:
			answer.NotTried++
		}
	}
	return answer, nil
}

// sysroots finds where the loader and libraries of a platform are: with its
// toolchain, or where Debian's are.
func sysroots(ctx context.Context, finder *toolchain.Finder) func(platform.Platform) string {
	return func(on platform.Platform) string {
		if cc, err := finder.Find(ctx, on, toolchain.Options{}); err == nil && cc.Sysroot != "" {
			return cc.Sysroot
		}
		return toolchain.SystemSysroot(on)
	}
}

func (a *app) showTried(t triedAnswer) {
	s := a.screen
	var rows [][]string
	for _, r := range t.Trials {
		style := map[string]term.Style{trial.Passed: term.Good, trial.Failed: term.Bad,
			trial.NotTried: term.Warn}[r.State]
		took := term.Took(time.Duration(r.Seconds * float64(time.Second)))
		if r.State == trial.NotTried {
			took = ""
		}
		rows = append(rows, []string{r.Trial, r.Platform, r.By, s.Paint(style, r.State), took})
	}
	s.Print("%s", s.Table([]term.Column{{Title: "trial"}, {Title: "platform"}, {Title: "run by"},
		{Title: "result"}, {Title: "took", Right: true}}, rows))
	a.showReasons(t.Trials)
	s.Print("")
	parts := []string{fmt.Sprintf("%d passed", t.Passed)}
	if t.Failed > 0 {
		parts = append(parts, fmt.Sprintf("%d failed", t.Failed))
	}
	if t.NotTried > 0 {
		parts = append(parts, fmt.Sprintf("%d not tried", t.NotTried))
	}
	s.Print("%s: %s of %s, in %s", s.Paint(term.Bold, t.Project+" "+t.Version), strings.Join(parts, ", "),
		term.Count(len(t.Trials), "trial"), term.Took(time.Duration(t.Seconds*float64(time.Second))))
}

// showReasons tells why trials failed or were not run; one reason for several
// platforms is told once.
func (a *app) showReasons(results []trial.Result) {
	s := a.screen
	var order []string
	where := map[string][]string{}
	for _, r := range results {
		if r.State != trial.NotTried {
			continue
		}
		if where[r.Why] == nil {
			order = append(order, r.Why)
		}
		if !slices.Contains(where[r.Why], r.Platform) {
			where[r.Why] = append(where[r.Why], r.Platform)
		}
	}
	for _, why := range order {
		s.Print("\n  %s %s: %s", s.Paint(term.Warn, "not tried"), strings.Join(where[why], ", "), why)
	}
	for _, r := range results {
		if r.State != trial.Failed {
			continue
		}
		s.Print("\n  %s %s", s.Paint(term.Bad, "failed"), r.Trial+" on "+r.Platform+": "+r.Why)
		s.Print("  %s", s.Paint(term.Soft, "$ "+strings.Join(r.Run, " ")))
		for _, line := range strings.Split(r.Output, "\n") {
			if line != "" {
				s.Print("  %s", s.Paint(term.Soft, "| ")+printable(line))
			}
		}
	}
}

// trialsFailed gives the error for a failure that was shown already, or says
// it where nothing was shown.
func (a *app) trialsFailed(t triedAnswer) error {
	var bad []string
	for _, r := range t.Trials {
		if r.Bad() {
			bad = append(bad, fmt.Sprintf("%s on %s: %s", r.Trial, r.Platform, r.Why))
		}
	}
	text := fmt.Sprintf("%s did not pass", term.Count(len(bad), "trial"))
	if a.quiet || a.json {
		text += "\n  " + strings.Join(bad, "\n  ")
	} else if t.Failed == 0 {
		text = fmt.Sprintf("%s that must pass could not be run here", term.Count(len(bad), "trial"))
	}
	return &fault.Error{What: text, Status: fault.Trial}
}
