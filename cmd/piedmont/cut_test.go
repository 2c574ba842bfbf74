package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

// cutProject has a version in a file and in a mirror.
func cutProject(t *testing.T) (string, call) {
	t.Helper()
	files := small()
	files["VERSION"] = "1.0.0\n"
	files["docs/install.md"] = "# Install\r\n\r\nFetch release 1.0.0 from the page.\r\n"
	files["piedmont.toml"] = strings.Replace(files["piedmont.toml"], "[program.chime]",
		"[version]\nsource = \"VERSION\"\nmirror = ['docs/install.md:/release ([0-9A-Za-z.-]+) "+
			"/']\n\n[program.chime]", 1)
	dir := project(t, files)
	git(t, dir, "config", "user.name", "Ines")
	git(t, dir, "config", "user.email", "ines@ridge-signals.example")
	return dir, call{dir: dir}
}

// say makes a commit that says something.
func say(t *testing.T, dir string, messages ...string) {
	t.Helper()
	for _, m := range messages {
		git(t, dir, "commit", "--quiet", "--allow-empty", "--message", m)
	}
}

type cutResult struct {
	Last, Version, Tag, Change, Section string
	Because                             []struct{ Commit, Subject string }
	Files                               []string
	Reviewed, Done                      bool
}

// state is everything that a cut may change: branch, tags, index, and files.
func state(t *testing.T, dir string) string {
	t.Helper()
	return git(t, dir, "rev-parse", "HEAD") + "\n" + git(t, dir, "for-each-ref") + "\n" +
		git(t, dir, "status", "--porcelain") + "\n" + fmt.Sprint(tree(t, filepath.Join(dir, "docs"))) +
		git(t, dir, "ls-files", "--stage")
}

func TestCutHistories(t *testing.T) {
	cases := []struct {
		name    string
		say     []string
		args    []string
		version string
		change  string
	}{
		{"minor", []string{"fix: ring once", "feat(bell): ring at noon", "docs: tell of it"}, nil, "1.1.0", "minor"},
		{"nothing to release", []string{"docs: x", "chore: y"}, nil, "", "none"},
		{"a candidate", []string{"feat: x"}, []string{"--as", "rc"}, "1.1.0-rc.1", "minor"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir, run := cutProject(t)
			say(t, dir, c.say...)
			before := state(t, dir)
			dry := decode[cutResult](t, run.ok(t, append([]string{"cut", "--dry-run", "--json"}, c.args...)...))
			if dry.Done || state(t, dir) != before {
				t.Error("a dry run changed something")
			}
			r := decode[cutResult](t, run.ok(t, append([]string{"cut", "--yes", "--json"}, c.args...)...))
			if r.Version != c.version || r.Change != c.change || r.Done != (c.version != "") {
				t.Fatalf("%+v", r)
			}
			if c.version == "" {
				if state(t, dir) != before {
					t.Error("nothing to release, and something changed")
				}
				return
			}
			if tag := git(t, dir, "cat-file", "-t", "v"+c.version); tag != "tag" {
				t.Errorf("the tag is a %s", tag)
			}
			if got := git(t, dir, "show", "--name-only", "--format=%s",
				"HEAD"); got != "chore: release chime "+c.version+"\n\nCHANGELOG.md\nVERSION\ndocs/install.md" {
				t.Errorf("the commit: %s", got)
			}
			install, err := os.ReadFile(filepath.Join(dir, "docs/install.md"))
			if err != nil || string(install) != "# Install\r\n\r\nFetch release "+c.version+" from the page.\r\n" {
				t.Errorf("the mirror: %q %v", install, err)
			}
			if git(t, dir, "status", "--porcelain") != "" {
				t.Error("the tree is not clean")
			}
			contains(t, run.ok(t, "plan").out, "chime "+c.version+"  tag v"+c.version)
		})
	}
}

// Reverts, two lines of development, and a first release.
func TestCutWay(t *testing.T) {
	dir, run := cutProject(t)
	say(t, dir, "feat: a")
	id := git(t, dir, "rev-parse", "HEAD")
	say(t, dir, "fix: b", "Revert \"feat: a\"\n\nThis reverts commit "+id+".")
	if r := decode[cutResult](t, run.ok(t, "cut", "--yes", "--json")); r.Version != "1.0.1" ||
		strings.Contains(r.Section, "- a ") {
		t.Errorf("after a revert: %+v", r)
	}
	say(t, dir, "feat: c")
	if r := decode[cutResult](t, run.ok(t, "cut", "--yes", "--json")); r.Version != "1.1.0" {
		t.Errorf("%+v", r)
	}
	// A fix for 1.0 after 1.1 exists counts from the tags that HEAD reaches.
	git(t, dir, "checkout", "--quiet", "-b", "old", "v1.0.1")
	say(t, dir, "fix: d")
	if r := decode[cutResult](t, run.ok(t, "cut", "--yes", "--json")); r.Version != "1.0.2" || r.Last != "1.0.1" {
		t.Errorf("on the old line: %+v", r)
	}
	if r := run.run(t, "cut", "--yes"); r.code != 2 ||
		!strings.Contains(r.err, "HEAD is tagged v1.0.2: there is nothing to cut") {
		t.Errorf("again: exit %d %s", r.code, r.err)
	}

	first := project(t, small())
	git(t, first, "tag", "--delete", "v1.0.0")
	git(t, first, "config", "user.name", "Ines")
	git(t, first, "config", "user.email", "ines@ridge-signals.example")
	if r := decode[cutResult](t, call{dir: first}.ok(t, "cut", "--yes", "--json", "--as",
		"1.0.0")); r.Version != "1.0.0" || r.Last != "" || !r.Done {
		t.Errorf("a first release: %+v", r)
	}
}

// When a step fails, files, index, branch and tags are as they were.
func TestCutIsTakenBack(t *testing.T) {
	hook := func(name, script string) func(t *testing.T, dir string) {
		return func(t *testing.T, dir string) {
			path := filepath.Join(dir, ".git", "hooks", name)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte("#!/bin/sh\n"+script), 0o755); err != nil {
				t.Fatal(err)
			}
		}
	}
	for name, c := range map[string]struct {
		spoil func(t *testing.T, dir string)
		tells string
	}{
		"a hook refuses the commit":  {hook("pre-commit", "echo 'not on a Friday' >&2; exit 1\n"), "not on a Friday"},
		"a hook refuses the message": {hook("commit-msg", "echo 'too short' >&2; exit 1\n"), "too short"},
		"the tag cannot be signed": {func(t *testing.T, dir string) {
			git(t, dir, "config", "tag.gpgSign", "true")
			git(t, dir, "config", "gpg.program", "false")
		}, "tag the release"},
		"nobody is configured": {func(t *testing.T, dir string) {
			git(t, dir, "config", "--unset", "user.name")
			git(t, dir, "config", "--unset", "user.email")
			git(t, dir, "config", "user.useConfigOnly", "true")
		}, "commit the release"},
		"a file cannot be written": {func(t *testing.T, dir string) {
			write(t, dir, map[string]string{"piedmont.toml": strings.Replace(tree(t, dir)["piedmont.toml"],
				"[program.chime]", "[cut]\nchangelog = \"LICENSE/changes.md\"\n\n[program.chime]", 1)})
			git(t, dir, "commit", "--quiet", "--all", "--message", "chore: x")
		}, "LICENSE"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, run := cutProject(t)
			say(t, dir, "fix: x")
			c.spoil(t, dir)
			before := state(t, dir)
			r := run.run(t, "cut", "--yes")
			if r.code == 0 {
				t.Fatal("it succeeded")
			}
			contains(t, r.err, c.tells)
			if after := state(t, dir); after != before {
				t.Errorf("before\n%s\nafter\n%s", before, after)
			}
		})
	}
}

func TestCutRefuses(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(t *testing.T, dir string)
		args  []string
		tells string
	}{
		"a dirty tree": {
			func(t *testing.T, dir string) { write(t, dir, map[string]string{"new.txt": "x"}) }, nil,
			"not committed: new.txt"},
		"nobody to ask": {func(*testing.T, string) {}, []string{"--yes=false"}, "add --yes"},
		"an older version": {func(*testing.T, string) {}, []string{"--as", "0.9.0"},
			"0.9.0 is not newer than 1.0.0"},
		"no version": {func(*testing.T, string) {}, []string{"--as", "bigger"},
			"--as takes major, minor, patch, rc or a version"},
		"a mirror that disagrees": {func(t *testing.T, dir string) {
			commitFile(t, dir, "docs/install.md",
				"release 0.8.0 from\n")
		}, nil, "says 0.8.0"},
		"a mirror without": {func(t *testing.T, dir string) {
			commitFile(t, dir, "docs/install.md",
				"nothing\n")
		}, nil, "the pattern matches nothing"},
		"a mirror that says twice": {func(t *testing.T, dir string) {
			commitFile(t, dir, "docs/install.md", "release 1.0.0 a\nrelease 1.0.0 b\n")
		}, nil, "in the lines 1 and 2"},
		"a tag that is elsewhere": {func(t *testing.T, dir string) { git(t, dir, "tag", "v1.0.1", "v1.0.0~0") },
			nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, run := cutProject(t)
			say(t, dir, "fix: x")
			c.spoil(t, dir)
			before := state(t, dir)
			r := run.run(t, append([]string{"cut", "--yes"}, c.args...)...)
			if r.code != 2 {
				t.Errorf("exit %d, want 2\n%s", r.code, r.err)
			}
			contains(t, r.err, c.tells)
			if state(t, dir) != before {
				t.Error("something changed")
			}
		})
	}
}

func commitFile(t *testing.T, dir, name, content string) {
	t.Helper()
	write(t, dir, map[string]string{name: content})
	git(t, dir, "commit", "--quiet", "--all", "--message", "docs: "+name)
}

// The whole way: change, commit, cut, ship; the page shows the new version as
// the latest, with its notes.
func TestFromChangeToPage(t *testing.T) {
	p := servePage(t, nil)
	dir, run := cutProject(t)
	run.env = p.env()
	git(t, dir, "commit", "--quiet", "--allow-empty", "--message", "docs: nothing yet")
	say(t, dir, "feat: ring at <noon>\n\nCo-authored-by: Jorik Feld <jorik@ridge-signals.example>")
	if answer, by := run.look(t); answer.Ready || by["tag"].State != "obstacle" || by["tag"].Mend != "piedmont cut" {
		t.Errorf("before the cut: %+v", answer)
	}
	run.ok(t, "cut", "--yes")
	run.ok(t, "ship")
	out, err := exec.Command("curl", "-sL", p.url+"/chime/").Output()
	if err != nil {
		t.Skip("curl: ", err)
	}
	contains(t, string(out), "<h1>1.1.0", "What changed", "ring at &lt;noon&gt;", "Jorik Feld")
	feed, err := exec.Command("curl", "-s", p.url+"/chime/feed.atom").Output()
	if err != nil {
		t.Fatal(err)
	}
	contains(t, string(feed), "chime 1.1.0", "ring at")
	run.ok(t, "verify", p.url+"/chime/")
}

// Commit messages in another encoding, or in none, and files without a last
// newline are taken as they are.
func TestCutAwkward(t *testing.T) {
	dir, run := cutProject(t)
	write(t, dir, map[string]string{"VERSION": "1.0.0", "CHANGELOG.md": "# Changes\n\n## 1.0.0\n\n- first"})
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "--message", "docs: x")
	git(t, dir, "-c", "i18n.commitEncoding=ISO-8859-1", "commit", "--quiet", "--allow-empty", "--message",
		"fix: l\xe4uten")
	git(t, dir, "commit", "--quiet", "--allow-empty", "--message", "feat: br\xffoken")
	r := decode[cutResult](t, run.ok(t, "cut", "--yes", "--json"))
	if r.Version != "1.1.0" || !strings.Contains(r.Section, "- läuten") || !strings.Contains(r.Section, "- brÿoken") {
		t.Errorf("%+v", r)
	}
	files := tree(t, dir)
	if files["VERSION"] != "1.1.0" || !strings.HasSuffix(files["CHANGELOG.md"], "\n## 1.0.0\n\n- first") {
		t.Errorf("%q %q", files["VERSION"], files["CHANGELOG.md"])
	}
}

// In a shallow clone the version says what is missing and how to get it.
func TestShallowClone(t *testing.T) {
	dir, _ := cutProject(t)
	say(t, dir, "fix: x")
	clone := filepath.Join(t.TempDir(), "clone")
	git(t, dir, "clone", "--quiet", "--depth=1", "file://"+dir, clone)
	r := call{dir: clone}.ok(t, "plan")
	contains(t, r.out, "chime 1.0.0-preview.1.g",
		"the clone is shallow and may lack tags: git fetch --unshallow --tags")
	git(t, clone, "fetch", "--quiet", "--unshallow", "--tags")
	contains(t, call{dir: clone}.ok(t, "plan").out, "chime 1.0.1-preview.1.g")
}

// The description says what types of commits mean.
func TestCutKinds(t *testing.T) {
	dir, run := cutProject(t)
	write(t, dir, map[string]string{"piedmont.toml": strings.Replace(tree(t, dir)["piedmont.toml"], "[program.chime]",
		"[cut]\nchangelog = \"docs/changes.md\"\nkinds = { docs = { change = \"patch\", heading = "+
			"\"Manual\" }, feat = { change = \"patch\", heading = \"Added\" } }\n\n[program.chime]", 1)})
	git(t, dir, "commit", "--quiet", "--all", "--message", "docs: say more")
	say(t, dir, "feat: ring")
	r := decode[cutResult](t, run.ok(t, "cut", "--yes", "--json"))
	if r.Version != "1.0.1" || !strings.Contains(r.Section, "### Manual\n\n- say more") ||
		!strings.Contains(r.Section, "### Added\n\n- ring") {
		t.Errorf("%+v", r)
	}
	if !strings.Contains(tree(t, dir)["docs/changes.md"], "## 1.0.1 (") {
		t.Error("the changelog is elsewhere")
	}
}

// In a terminal it asks, and does nothing without a yes.
func TestCutAsks(t *testing.T) {
	testclient.Need(t, "script")
	for answer, cuts := range map[string]bool{"y": true, "n": false, "": false, "yes": true, "why": false} {
		dir, _ := cutProject(t)
		say(t, dir, "fix: ring once")
		before := state(t, dir)
		cmd := exec.Command("script", "-qec", program+" cut", filepath.Join(t.TempDir(), "log"))
		cmd.Dir, cmd.Env, cmd.Stdin = dir, append(environment(), "TERM=xterm"), strings.NewReader(answer+"\n")
		out, err := cmd.CombinedOutput()
		if (err == nil) != cuts || (state(t, dir) != before) != cuts {
			t.Errorf("%q: %v\n%s", answer, err, out)
		}
		contains(t, string(out), "1.0.0 → 1.0.1", "Shall I commit and tag v1.0.1? [y/N]")
	}
}
