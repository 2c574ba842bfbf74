// Package demo is the sample project: hutbell, by the fictional Ridge Signals.
// It writes the project with a git history whose commits are the same
// everywhere, down to their ids.
package demo

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"piedmont/internal/base/environ"
)

// Each file of the history is one commit: what it says, then the files it writes.
//
//go:embed history/*.txtar
var history embed.FS

// Name is the sample project's name, Version what is cut from its history.
const (
	Name    = "hutbell"
	Version = "1.4.0"
	// Commit is the id of the last commit that Write makes, on every machine.
	Commit = "9e1fddb9cd4d8c49768e397f0b158cf5fb79f147"
)

// Write makes the project in dir, which must not exist or be empty.
func Write(ctx context.Context, dir string, env environ.Env) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty: name a folder that does not exist yet", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("write the sample project: %w", err)
	}
	if _, err := exec.LookPath("git"); err != nil {
		return fmt.Errorf("git is not installed: the sample project gets a git history")
	}
	g := git{ctx, dir, env}
	if err := g.run(nil, "init", "--quiet", "--initial-branch=main", "--object-format=sha1"); err != nil {
		return err
	}
	names, err := fs.Glob(history, "history/*.txtar")
	if err != nil {
		return err
	}
	for _, name := range names {
		data, err := history.ReadFile(name)
		if err != nil {
			return err
		}
		if err := commit(g, dir, read(string(data))); err != nil {
			return fmt.Errorf("write the sample project: %w", err)
		}
	}
	return nil
}

// change is one commit: what is said of it, and the files that it writes.
type change struct {
	said  map[string]string
	files []file
}

type file struct{ name, text string }

// read takes a change apart: lines "key: value", then each file after a line
// "-- NAME --".
func read(text string) change {
	c := change{said: map[string]string{}}
	for line := range strings.Lines(text) {
		mark := strings.TrimSuffix(line, "\n")
		name, begins := strings.CutPrefix(mark, "-- ")
		name, ends := strings.CutSuffix(name, " --")
		switch {
		case begins && ends:
			c.files = append(c.files, file{name: name})
		case len(c.files) > 0:
			c.files[len(c.files)-1].text += line
		default:
			if key, value, ok := strings.Cut(mark, ": "); ok {
				c.said[key] = value
			}
		}
	}
	return c
}

func commit(g git, dir string, c change) error {
	said := c.said
	for _, f := range c.files {
		path := filepath.Join(dir, filepath.FromSlash(f.name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(f.text), 0o644); err != nil {
			return err
		}
	}
	name, mail, _ := strings.Cut(strings.TrimSuffix(said["author"], ">"), " <")
	who := []string{
		"GIT_AUTHOR_NAME=" + name, "GIT_AUTHOR_EMAIL=" + mail, "GIT_AUTHOR_DATE=" + said["date"],
		"GIT_COMMITTER_NAME=" + name, "GIT_COMMITTER_EMAIL=" + mail, "GIT_COMMITTER_DATE=" + said["date"],
	}
	if err := g.run(nil, "add", "--all"); err != nil {
		return err
	}
	if err := g.run(who, "commit", "--quiet", "--message", said["message"]); err != nil {
		return err
	}
	if said["tag"] == "" {
		return nil
	}
	return g.run(who, "tag", "--annotate", "--message", "hutbell "+strings.TrimPrefix(said["tag"], "v"), said["tag"])
}

// Day is when the release of the sample project is cut.
var Day = time.Date(2026, 5, 2, 9, 0, 0, 0, time.UTC)

// Identity are variables with which git commits as somebody of the sample
// project on that day, so that what is cut is the same everywhere too.
func Identity() []string {
	who := []string{"GIT_CONFIG_GLOBAL=" + os.DevNull, "GIT_CONFIG_NOSYSTEM=1"}
	for _, role := range []string{"AUTHOR", "COMMITTER"} {
		who = append(who, "GIT_"+role+"_NAME=Ines Tarvold", "GIT_"+role+"_EMAIL=ines@ridge-signals.example",
			"GIT_"+role+"_DATE="+Day.Format(time.RFC3339))
	}
	return who
}

// git runs commands that no setting of this machine's user changes.
type git struct {
	ctx context.Context
	dir string
	env environ.Env
}

func (g git) run(env []string, args ...string) error {
	cmd := exec.CommandContext(g.ctx, "git",
		append([]string{"-c", "core.autocrlf=false", "-c", "core.fileMode=false", "-c", "core.hooksPath=" +
			os.DevNull}, args...)...)
	cmd.Dir = g.dir
	for _, kv := range g.env.List() {
		if !strings.HasPrefix(kv, "GIT_") {
			cmd.Env = append(cmd.Env, kv)
		}
	}
	cmd.Env = append(cmd.Env, "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1", "GIT_TEMPLATE_DIR=",
		"TZ=UTC", "LC_ALL=C")
	cmd.Env = append(cmd.Env, env...)
	if out, err := cmd.CombinedOutput(); err != nil {
		if g.ctx.Err() != nil {
			return g.ctx.Err()
		}
		return fmt.Errorf("git %s: %s", args[0], strings.TrimSpace(string(out)))
	}
	return nil
}
