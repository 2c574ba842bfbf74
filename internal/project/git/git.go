// Package git asks the git command what it knows about a project: its commit,
// its tags, whether the tree is clean, and the files of a commit.
package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
)

// Errors that mean there is nothing to release yet.
var (
	ErrNoGit        = fault.Misuse("git is not installed", "Piedmont reads the version and the commit from it")
	ErrNoRepository = fault.Misuse("this folder is not in a git repository", "run \"git init\" and commit the project")
	ErrNoCommit     = fault.Misuse("this git repository has no commit yet", "run \"git add -A\" and \"git commit\"")
)

// Repo is a work tree.
type Repo struct {
	Dir string      // the folder that git is asked in
	Env environ.Env // what git sees of the environment
}

// Facts is what a plan needs to know from git.
type Facts struct {
	Commit string    // full id of HEAD
	Time   time.Time // committer time of HEAD, UTC
	Here   []string  // tags on HEAD
	Dirty  []string  // paths that differ from HEAD, at most a few
}

// Facts asks for everything at once; the calls run side by side.
func (r Repo) Facts(ctx context.Context) (Facts, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return Facts{}, ErrNoGit
	}
	var f Facts
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		out, err := r.git(ctx, "log", "-1", "--no-show-signature", "--format=%H %ct", "HEAD")
		if err != nil {
			return err
		}
		id, sec, ok := strings.Cut(strings.TrimSpace(out), " ")
		n, convErr := strconv.ParseInt(sec, 10, 64)
		if !ok || convErr != nil {
			return fmt.Errorf("git log answered %q for HEAD", out)
		}
		f.Commit, f.Time = id, time.Unix(n, 0).UTC()
		return nil
	})
	g.Go(func() error {
		out, err := r.git(ctx, "tag", "--points-at", "HEAD")
		f.Here = strings.Fields(out)
		return err
	})
	g.Go(func() error {
		// The two folders that Piedmont writes ignore themselves, but not in the
		// instant in which another run makes them.
		out, err := r.git(ctx, "status", "--porcelain", "-z", "--no-renames", "--", ":/", ":(exclude).piedmont",
			":(exclude)outbox")
		for _, line := range strings.Split(out, "\x00") {
			if len(line) > 3 && len(f.Dirty) < 20 {
				f.Dirty = append(f.Dirty, line[3:])
			}
		}
		return err
	})
	err := g.Wait()
	return f, err
}

// LastTag finds the nearest tag before HEAD that matches the glob and that
// accept takes, and how many commits came since; "" and the number of all
// commits when there is none.
func (r Repo) LastTag(ctx context.Context, glob string, accept func(string) bool) (string, int, error) {
	args := []string{"describe", "--tags", "--long", "--abbrev=40", "--match", glob}
	for range 50 {
		out, err := r.git(ctx, append(args, "HEAD")...)
		if err != nil {
			if !noTag(err) {
				return "", 0, err
			}
			break
		}
		name, distance, ok := cutLong(strings.TrimSpace(out))
		if !ok {
			return "", 0, fmt.Errorf("git describe answered %q", out)
		}
		if accept(name) {
			return name, distance, nil
		}
		args = append(args, "--exclude", name)
	}
	out, err := r.git(ctx, "rev-list", "--count", "HEAD")
	if err != nil {
		return "", 0, err
	}
	n, err := strconv.Atoi(strings.TrimSpace(out))
	return "", n, err
}

// noTag says whether git describe failed because no tag fits.
func noTag(err error) bool {
	for _, text := range []string{"No names found", "No tags can describe", "cannot describe anything",
		"No annotated tags can describe"} {
		if strings.Contains(err.Error(), text) {
			return true
		}
	}
	return false
}

// cutLong splits TAG-N-gCOMMIT, the long answer of git describe.
func cutLong(s string) (tag string, distance int, ok bool) {
	i := strings.LastIndex(s, "-g")
	if i < 0 {
		return "", 0, false
	}
	j := strings.LastIndex(s[:i], "-")
	if j < 0 {
		return "", 0, false
	}
	n, err := strconv.Atoi(s[j+1 : i])
	return s[:j], n, err == nil
}

// Remote is the address of the remote "origin"; "" when there is none.
func (r Repo) Remote(ctx context.Context) (string, error) {
	address, _, err := r.asks(ctx, "config", "--get", "remote.origin.url")
	return address, err
}

// Files lists the files below a folder that belong to the project: tracked, or
// new and not ignored. The paths are relative to that folder.
func (r Repo) Files(ctx context.Context, dir string) ([]string, error) {
	sub := r
	sub.Dir = filepath.Join(r.Dir, filepath.FromSlash(dir))
	out, err := sub.git(ctx, "ls-files", "-z", "--cached", "--others", "--exclude-standard")
	if err != nil {
		return nil, err
	}
	files := strings.Split(strings.TrimRight(out, "\x00"), "\x00")
	slices.Sort(files)
	return slices.Compact(files), nil
}

// call is one call of git.
type call struct {
	input []byte
	env   []string // further variables
	args  []string
}

// git runs one git command and returns what it wrote.
func (r Repo) git(ctx context.Context, args ...string) (string, error) {
	return r.run(ctx, call{args: args})
}

func (r Repo) run(ctx context.Context, c call) (string, error) {
	cmd := r.command(ctx, c.args...)
	cmd.Env = append(cmd.Env, c.env...)
	if c.input != nil {
		cmd.Stdin = bytes.NewReader(c.input)
	}
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	if errors.Is(err, exec.ErrWaitDelay) {
		err = nil // git succeeded; a hook left a program behind that holds its output
	}
	if err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", explain(verb(c.args), err, errOut.String())
	}
	return out.String(), nil
}

// verb is the command among the arguments, behind settings.
func verb(args []string) string {
	for len(args) > 2 && args[0] == "-c" {
		args = args[2:]
	}
	return args[0]
}

// asks runs a git command that answers by its exit status: 0 is yes, and 1 is no.
// Anything else is an error.
func (r Repo) asks(ctx context.Context, args ...string) (string, bool, error) {
	out, err := r.git(ctx, args...)
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		return "", false, nil
	}
	return strings.TrimSpace(out), err == nil, err
}

func (r Repo) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = r.Dir
	// Without GIT_FLUSH=0 git writes each commit of a log by itself. Without
	// GIT_OPTIONAL_LOCKS=0 a mere question may lock the index.
	cmd.Env = r.Env.With("LC_ALL=C", "GIT_TERMINAL_PROMPT=0", "GIT_FLUSH=0", "GIT_OPTIONAL_LOCKS=0")
	// Told to stop, git removes its locks; killed, it cannot.
	cmd.Cancel = func() error {
		if err := cmd.Process.Signal(os.Interrupt); err != nil {
			return cmd.Process.Kill() // where there are no signals
		}
		return nil
	}
	cmd.WaitDelay = 5 * time.Second
	return cmd
}

func explain(verb string, err error, said string) error {
	switch {
	case strings.Contains(said, "not a git repository"):
		return ErrNoRepository
	case strings.Contains(said, "ambiguous argument 'HEAD'"),
		strings.Contains(said, "does not have any commits yet"),
		strings.Contains(said, "no such ref"),
		strings.Contains(said, "malformed object name 'HEAD'"),
		strings.Contains(said, "malformed object name HEAD"):
		return ErrNoCommit
	}
	if said = strings.TrimSpace(said); said != "" {
		return &fault.Error{What: fmt.Sprintf("git %s: %s", verb, said), Err: err}
	}
	return fmt.Errorf("git %s: %w", verb, err)
}
