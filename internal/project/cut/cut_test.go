package cut

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/fault"
	"piedmont/internal/config"
	"piedmont/internal/project"
	"piedmont/internal/project/changelog"
	"piedmont/internal/project/projecttest"
	"piedmont/internal/project/version"
)

const description = `[project]
name = "chime"

[version]
source = "VERSION"
mirror = ["install.md:/release ([0-9A-Za-z.-]+) /"]
`

func describe(t *testing.T, dir string) *config.Document {
	t.Helper()
	tables := []config.Table{project.Table(), version.Table(), changelog.Table()}
	d, err := config.Load(filepath.Join(dir, config.FileName), tables)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func chime(t *testing.T) string {
	t.Helper()
	return projecttest.New(t, map[string]string{config.FileName: description, "VERSION": "1.0.0\n",
		"install.md": "Take release 1.0.0 of it.\n"})
}

func options(as string) Options {
	return Options{As: as, Now: time.Date(2026, 5, 2, 9, 0, 0, 0, time.UTC), Env: projecttest.Env()}
}

func read(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func TestCut(t *testing.T) {
	dir := chime(t)
	projecttest.Commit(t, dir, "feat: a second bell", nil)
	projecttest.Commit(t, dir, "rework without a type", nil)
	d := describe(t, dir)
	p, err := Prepare(t.Context(), d, options(""))
	if err != nil {
		t.Fatal(err)
	}
	if p.Last != "1.0.0" || p.Version != "1.1.0" || p.Tag != "v1.1.0" || p.Decision.Change != changelog.Minor ||
		len(p.Changes) != 2 || len(p.Edits) != 3 {
		t.Fatalf("%+v", p)
	}
	if diff := p.Edits[0].Diff() + p.Edits[1].Diff() + p.Edits[2].Diff(); !strings.Contains(diff, "+1.1.0") ||
		!strings.Contains(diff, "+Take release 1.1.0 of it.") || !strings.Contains(diff, "- a second bell") {
		t.Errorf("the edits:\n%s", diff)
	}
	if read(t, filepath.Join(dir, "VERSION")) != "1.0.0\n" {
		t.Error("a proposal changed a file")
	}
	if err := p.Apply(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	if got := projecttest.Git(t, dir, "describe", "--exact-match"); got != "v1.1.0" {
		t.Errorf("HEAD is %s", got)
	}
	if read(t, filepath.Join(dir, "VERSION")) != "1.1.0\n" ||
		!strings.Contains(read(t, filepath.Join(dir, "CHANGELOG.md")), "1.1.0") {
		t.Error("the files are not those of the proposal")
	}
	_, err = Prepare(t.Context(), d, options(""))
	if fault.Of(err) != fault.Usage || !strings.Contains(err.Error(), "nothing to cut") {
		t.Errorf("at once again: %v", err)
	}
}

// What the commits say decides the version, unless somebody wishes otherwise.
func TestVersions(t *testing.T) {
	for _, c := range []struct {
		say              []string
		as, want, change string
	}{
		{[]string{"fix: ring once"}, "", "1.0.1", changelog.Patch},
		{[]string{"fix: ring once", "feat(bell): ring at noon", "docs: tell of it"}, "", "1.1.0", changelog.Minor},
		{[]string{"feat!: ring twice", "feat: x"}, "", "2.0.0", changelog.Major},
		{[]string{"fix: x\n\nBREAKING CHANGE: the tone is lower"}, "", "2.0.0", changelog.Major},
		{[]string{"Ring", "Ring again"}, "", "", changelog.None},
		{[]string{"Ring"}, "minor", "1.1.0", changelog.None},
		{[]string{"fix: x"}, "3.0.0", "3.0.0", changelog.Patch},
		{[]string{"feat: x"}, "rc", "1.1.0-rc.1", changelog.Minor},
	} {
		dir := chime(t)
		for _, m := range c.say {
			projecttest.Commit(t, dir, m, nil)
		}
		p, err := Prepare(t.Context(), describe(t, dir), options(c.as))
		if err != nil || p.Version != c.want || p.Decision.Change != c.change {
			t.Errorf("%q as %q: %+v, %v", c.say, c.as, p, err)
		}
	}
}

func TestNothingAsksForARelease(t *testing.T) {
	dir := chime(t)
	projecttest.Commit(t, dir, "docs: say more", nil)
	p, err := Prepare(t.Context(), describe(t, dir), options(""))
	if err != nil || p.Version != "" {
		t.Errorf("%+v, %v", p, err)
	}
	if p, err = Prepare(t.Context(), describe(t, dir), options("major")); err != nil || p.Version != "2.0.0" ||
		!p.Asked {
		t.Errorf("as major: %+v, %v", p, err)
	}
	if _, err = Prepare(t.Context(), describe(t, dir), options("0.9.0")); err == nil {
		t.Error("a version below the last was taken")
	}
}

// When a step fails, files, index, branch and tags are as before.
func TestTakenBack(t *testing.T) {
	dir := chime(t)
	projecttest.Commit(t, dir, "fix: ring again", nil)
	d := describe(t, dir)
	p, err := Prepare(t.Context(), d, options(""))
	if err != nil {
		t.Fatal(err)
	}
	head := projecttest.Git(t, dir, "rev-parse", "HEAD")
	hook := filepath.Join(dir, ".git", "hooks", "commit-msg")
	if err := os.MkdirAll(filepath.Dir(hook), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(hook, []byte("#!/bin/sh\necho not today >&2\nexit 1\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := p.Apply(t.Context(), d); err == nil || !strings.Contains(err.Error(), "not today") {
		t.Errorf("a hook that refuses: %v", err)
	}
	if projecttest.Git(t, dir, "rev-parse", "HEAD") != head || projecttest.Git(t, dir, "status",
		"--porcelain") != "" || projecttest.Git(t, dir, "tag") != "v1.0.0" {
		t.Error("something is not as it was")
	}
}

func TestOnBranch(t *testing.T) {
	dir := chime(t)
	projecttest.Commit(t, dir, "fix: ring again", nil)
	d := describe(t, dir)
	p, err := Prepare(t.Context(), d, options(""))
	if err == nil {
		err = p.OnBranch(t.Context(), d, "next")
	}
	if err != nil {
		t.Fatal(err)
	}
	if got := projecttest.Git(t, dir, "show", "next:VERSION"); got != "1.0.1" ||
		read(t, filepath.Join(dir, "VERSION")) != "1.0.0\n" {
		t.Errorf("on the branch: %s", got)
	}
	if err := p.OnBranch(t.Context(), d, "next"); err == nil || !strings.Contains(err.Error(), "next") {
		t.Errorf("a branch that is there: %v", err)
	}
	if projecttest.Git(t, dir, "status", "--porcelain") != "" || projecttest.Git(t, dir, "branch",
		"--show-current") != "main" {
		t.Error("more than a branch was made")
	}
	projecttest.Git(t, dir, "merge", "--quiet", "next")
	if p, err = Prepare(t.Context(), d, options("")); err != nil || !p.Reviewed || p.Tag != "v1.0.1" {
		t.Errorf("after the review: %+v, %v", p, err)
	}
}
