// Package trial runs finished files in a clean place: an archive is unpacked
// into an empty folder, and a program in it is run there, natively or by an
// emulator, with an empty home, few variables, and no network where the system
// allows that.
package trial

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fileio"
	"piedmont/internal/base/platform"
	"piedmont/internal/base/process"
	"piedmont/internal/base/progress"
	"piedmont/internal/format/archive"
	"piedmont/internal/release"
)

// States of a trial.
const (
	Passed   = "passed"
	Failed   = "failed"
	NotTried = "not tried"
)

// Result is what came of one trial of one file.
type Result struct {
	Trial    string   `json:"trial"`
	File     string   `json:"file"`
	SHA256   string   `json:"sha256"` // of the file that was tried
	Platform string   `json:"platform,omitempty"`
	Run      []string `json:"run"`
	Required bool     `json:"required"`
	State    string   `json:"state"`
	By       string   `json:"by,omitempty"`  // what ran it: "this system", "qemu-aarch64", "Wine"
	Why      string   `json:"why,omitempty"` // it failed, or was not tried
	Offline  bool     `json:"offline"`       // it had no network
	Seconds  float64  `json:"seconds"`
	Output   string   `json:"output,omitempty"` // of one that failed: its last lines
	Asked    string   `json:"asked"`            // a digest over what the trial asks
}

// Options say how trials run.
type Options struct {
	Jobs   int
	Events progress.Sink
	// Sysroot names the folder with the loader and libraries of a platform.
	Sysroot func(platform.Platform) string
	// Readers read the archives that are tried.
	Readers []archive.Reader
	// Cache is a folder for what is prepared once.
	Cache string
	Env   environ.Env
}

// maxOutput is how much of a program's output is kept, in bytes.
const maxOutput = 1 << 20

// maxUnpacked bounds what an archive may unpack to, in bytes.
const maxUnpacked = 64 << 30

// Run makes all trials of the files in an outbox, side by side.
func Run(ctx context.Context, dir string, m *release.Manifest, trials []Trial, o Options) ([]Result, error) {
	o.Events.Event(progress.Began{What: "try", Steps: len(trials)})
	results := make([]Result, len(trials))
	var group errgroup.Group
	group.SetLimit(max(1, o.Jobs))
	for i, t := range trials {
		group.Go(func() error {
			id, title := fmt.Sprint("try ", i), Title(t)
			o.Events.Event(progress.Started{ID: id, Title: title})
			start := time.Now()
			r, err := attempt(ctx, dir, m, t, o)
			if err != nil {
				o.Events.Event(progress.Failed{ID: id, Title: title, Err: err})
				return fmt.Errorf("%s: %w", title, err)
			}
			results[i] = r
			o.Events.Event(progress.Finished{ID: id, Title: title + ": " + r.State, Took: time.Since(start),
				Brief: true})
			return nil
		})
	}
	err := group.Wait()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return results, err
}

// Title names a trial for people.
func Title(t Trial) string {
	if t.Platform == "" {
		return "try " + t.Name + " of " + t.File
	}
	return "try " + t.Name + " on " + t.Platform
}

// Asked is a digest over all that a trial asks.
func Asked(t Trial) string {
	data, err := json.Marshal([]any{t.Name, t.File, t.Dir, t.Run, t.Expect, t.Env, t.Within.Seconds()})
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

func attempt(ctx context.Context, dir string, m *release.Manifest, t Trial, o Options) (Result, error) {
	r := Result{Trial: t.Name, File: t.File, Platform: t.Platform, Run: t.Run, Required: t.Required,
		Asked: Asked(t), State: NotTried}
	f, ok := m.File(t.File)
	if !ok {
		return r, fmt.Errorf("there is no %s in the outbox: run \"piedmont make\" again", t.File)
	}
	file := filepath.Join(dir, t.File)
	var err error
	if r.SHA256, err = fileio.SHA256(ctx, file); err != nil {
		return r, err
	}
	if r.SHA256 != f.SHA256 {
		return r, fmt.Errorf("%s was changed since it was made: run \"piedmont make\" again", t.File)
	}
	on, err := platform.Parse(t.Platform)
	if err != nil {
		on = platform.Host() // a bundle of files alone is for every platform
	}
	clean, err := os.MkdirTemp("", "piedmont-trial-")
	if err != nil {
		return r, err
	}
	defer func() { _ = os.RemoveAll(clean) }()
	place, err := unpack(ctx, file, clean, o)
	if err != nil {
		return r, err
	}
	runner, why := runnerFor(on, filepath.Join(place, filepath.FromSlash(t.Dir), filepath.FromSlash(t.Run[0])), o)
	if why != "" {
		r.Why = why
		return r, nil
	}
	r.By, runner.env = runner.name, o.Env
	return r, runner.try(ctx, clean, place, t, &r)
}

func unpack(ctx context.Context, file, clean string, o Options) (string, error) {
	place := filepath.Join(clean, "unpacked")
	for _, dir := range []string{place, filepath.Join(clean, "home"), filepath.Join(clean, "tmp")} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			return "", err
		}
	}
	return place, archive.Unpacker{Most: maxUnpacked}.Unpack(ctx, file, place, o.Readers...)
}

// try runs the program and judges what came of it.
func (n runner) try(ctx context.Context, clean, place string, t Trial, r *Result) error {
	at := filepath.Join(place, filepath.FromSlash(t.Dir))
	env := []string{"HOME=" + filepath.Join(clean, "home"), "TMPDIR=" + filepath.Join(clean, "tmp"),
		"LC_ALL=C.UTF-8", "TZ=UTC", "PATH=" + cleanPath(n.env)}
	if n.prepare != nil {
		more, end, err := n.prepare(ctx, clean)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			r.State, r.Why = NotTried, err.Error()
			return nil
		}
		defer end()
		env = append(env, more...)
	}
	env = append(env, t.Env...)
	program := filepath.Join(at, filepath.FromSlash(t.Run[0]))
	words := append(slices.Clone(n.before), program)
	words = append(words, t.Run[1:]...)
	limited, cancel := context.WithTimeout(ctx, t.Within)
	defer cancel()
	c := process.Command{Dir: at, Env: env, Name: words[0], Args: words[1:], Limit: maxOutput, Offline: true,
		Mark: filepath.Base(clean)}
	start := time.Now()
	got := process.Do(limited, c)
	r.Offline, r.Seconds = got.Offline, time.Since(start).Seconds()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if n.windows {
		got.Stdout, got.Stderr = strings.ReplaceAll(got.Stdout, "\r\n", "\n"),
			strings.ReplaceAll(got.Stderr, "\r\n", "\n")
	}
	judge(n, t, at, got, limited.Err() != nil, r)
	return nil
}

func judge(n runner, t Trial, at string, got process.Result, late bool, r *Result) {
	if n.lack != nil {
		if state, why := n.lack(got); why != "" {
			r.State, r.Why = state, why
			if state == Failed {
				r.Output = ends(got)
			}
			return
		}
	}
	var faults []string
	if late {
		faults = append(faults, fmt.Sprintf("it was still running after %s and was stopped", t.Within))
	} else {
		faults = append(faults, ended(got.Err, t.Expect.Status)...)
	}
	faults = append(faults, outcome(t, at, got)...)
	if len(faults) == 0 {
		r.State = Passed
		return
	}
	r.State, r.Why, r.Output = Failed, strings.Join(faults, "; "), ends(got)
}

// ended says what is wrong with how a program ended.
func ended(err error, want int) []string {
	var exit *exec.ExitError
	switch {
	case err == nil:
		if want != 0 {
			return []string{fmt.Sprintf("its exit status is 0, and %d was expected", want)}
		}
	case errors.As(err, &exit):
		if ws, ok := exit.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
			return []string{fmt.Sprintf("it crashed: %s", ws.Signal())}
		}
		if code := exit.ExitCode(); code != want {
			return []string{fmt.Sprintf("its exit status is %d, and %d was expected", code, want)}
		}
	case errors.Is(err, exec.ErrWaitDelay):
		// It ended, and what it left running held its output open.
	case errors.Is(err, os.ErrNotExist):
		return []string{"it does not start: the loader or interpreter that it names is not there"}
	default:
		return []string{"it does not start: " + err.Error()}
	}
	return nil
}

// outcome says what of the expected output and files is missing.
func outcome(t Trial, at string, got process.Result) []string {
	var faults []string
	e := t.Expect
	if said := strings.TrimSpace(got.Stdout); e.Is != "" && said != strings.TrimSpace(e.Is) {
		faults = append(faults, fmt.Sprintf("its output is %s, and %q was expected", short(said), e.Is))
	}
	both := got.Stdout + "\n" + got.Stderr
	for _, text := range e.Contains {
		if !strings.Contains(both, text) {
			faults = append(faults, fmt.Sprintf("its output does not contain %q", text))
		}
	}
	if e.Matches != "" {
		if re, err := regexp.Compile(e.Matches); err != nil || !re.MatchString(both) {
			faults = append(faults, fmt.Sprintf("its output does not match %q", e.Matches))
		}
	}
	if e.File != "" {
		if _, err := os.Lstat(filepath.Join(at, filepath.FromSlash(e.File))); err != nil {
			faults = append(faults, fmt.Sprintf("there is no file %s afterwards", e.File))
		}
	}
	return faults
}

func short(s string) string {
	if s == "" {
		return "empty"
	}
	if len(s) > 80 || strings.Contains(s, "\n") {
		line, _, _ := strings.Cut(s, "\n")
		return fmt.Sprintf("%q and so on", line[:min(len(line), 80)])
	}
	return fmt.Sprintf("%q", s)
}

// ends gives the first and the last lines of what a program said: a reason may
// stand at either end.
func ends(got process.Result) string {
	text := strings.TrimSpace(strings.TrimSpace(got.Stdout) + "\n" + strings.TrimSpace(got.Stderr))
	lines := strings.Split(text, "\n")
	if n := len(lines); n > 20 {
		left := fmt.Sprintf("[%d lines]", n-20)
		lines = slices.Concat(lines[:10], []string{left}, lines[n-10:])
	}
	return strings.Join(lines, "\n")
}

// cleanPath has the system's own programs and no others.
func cleanPath(env environ.Env) string {
	if filepath.Separator == '\\' {
		return env.Get("SYSTEMROOT") + `\system32`
	}
	return "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
}
