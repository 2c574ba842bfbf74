package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// cut reads 10,000 commits, beside git log over the same range.
func (b *bench) cut() error {
	dir := filepath.Join(b.dir, "long")
	if err := writeFiles(dir,
		map[string]string{"piedmont.toml": "[project]\nname = \"long\"\n\n[source]\n"}); err != nil {
		return err
	}
	if err := commit(dir, "v1.0.0"); err != nil {
		return err
	}
	var stream strings.Builder
	kinds := []string{"feat(bell): ring", "fix: mend", "docs: tell", "Something else", "chore: tidy"}
	for i := range 10000 {
		message := fmt.Sprintf("%s %d\n\nA body of a line or two,\nas people write them.\n\nRefs: #%d\n",
			kinds[i%len(kinds)], i, i)
		fmt.Fprintf(&stream, "commit refs/heads/master\ncommitter Ines <ines@ridge-signals.example> %d "+
			"+0000\ndata %d\n%s\n", 1777700000+i, len(message), message)
		if i == 0 {
			stream.WriteString("from refs/heads/master^0\n")
		}
		stream.WriteString("\n")
	}
	for _, args := range [][]string{{"branch", "--quiet", "--move", "master"}, {"fast-import", "--quiet"},
		{"reset", "--quiet", "--hard", "master"}} {
		cmd := exec.Command("git", args...)
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(stream.String())
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %v: %w\n%s", args, err, out)
		}
	}
	nothing := func() error { return nil }
	log, err := median(5, nothing, func() (usage, error) { return measure(dir, nil, "git", "log", "v1.0.0..HEAD") })
	if err != nil {
		return err
	}
	ours, err := median(5, nothing, func() (usage, error) {
		return measure(dir, nil, b.piedmont, "cut",
			"--dry-run", "--json")
	})
	if err != nil {
		return err
	}
	b.add("10,000 commits: `cut --dry-run` beside `git log` over the same range",
		fmt.Sprintf("%d ms", ours.Milliseconds()), fmt.Sprintf("%d ms", log.Milliseconds()), ratio(ours, log), "≤ 2.00")
	return nil
}

// ready makes all checks on the sample project with warm caches.
func (b *bench) ready() error {
	project, err := b.demo()
	if err != nil {
		return err
	}
	address, token, stop, err := b.serve(filepath.Join(b.dir, "pages-ready"))
	if err != nil {
		return err
	}
	defer stop()
	env := []string{"HUTBELL_PAGE=" + address, "HUTBELL_PAGE_TOKEN=" + token}
	took, err := median(7, func() error { return nil },
		func() (usage, error) { return measure(project, env, b.piedmont, "ready") })
	if err != nil {
		return err
	}
	cmd := exec.Command(b.piedmont, "ready", "--json")
	cmd.Dir, cmd.Env = project, append(os.Environ(), env...)
	out, err := cmd.Output()
	if err != nil {
		return err
	}
	var answer struct {
		Seconds  float64
		Findings []struct {
			Check   string
			Seconds float64
		}
	}
	if err := json.Unmarshal(out, &answer); err != nil {
		return err
	}
	slowest, name := 0.0, ""
	for _, f := range answer.Findings {
		if f.Seconds > slowest {
			slowest, name = f.Seconds, f.Check
		}
	}
	b.add("all checks of `ready` beside its slowest one ("+name+")",
		fmt.Sprintf("%.1f ms", 1000*answer.Seconds), fmt.Sprintf("%.1f ms", 1000*slowest),
		fmt.Sprintf("%.2f", answer.Seconds/slowest), "≤ 1.20")
	b.add("`ready` on the sample project, warm",
		fmt.Sprintf("%d ms", took.Round(time.Millisecond).Milliseconds()), "", "", "< 1 s")
	return nil
}
