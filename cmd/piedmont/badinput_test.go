package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

// Each bad input gives the right exit status and a message that says what,
// where, and what to do. The faults of a file are tested in internal/config.
func TestBadInput(t *testing.T) {
	with := func(change func(files map[string]string)) func(t *testing.T) string {
		return func(t *testing.T) string {
			files := small()
			change(files)
			return project(t, files)
		}
	}
	config := func(old, new string) func(t *testing.T) string {
		return with(func(f map[string]string) {
			if !strings.Contains(f["piedmont.toml"], old) {
				panic("nothing to replace: " + old)
			}
			f["piedmont.toml"] = strings.Replace(f["piedmont.toml"], old, new, 1)
		})
	}
	cases := []struct {
		name  string
		dir   func(t *testing.T) string
		args  []string
		code  int
		tells []string
	}{
		{"no piedmont.toml", with(func(f map[string]string) { delete(f, "piedmont.toml") }), []string{"plan"},
			2, []string{"there is no piedmont.toml here", "piedmont start"}},
		{"empty", with(func(f map[string]string) { f["piedmont.toml"] = "" }), []string{"make"}, 2,
			[]string{"piedmont.toml:1:1", "[project] is missing"}},
		{"not TOML", with(func(f map[string]string) { f["piedmont.toml"] = "name: chime\n" }), []string{"plan"},
			2, []string{"piedmont.toml:1:", "not TOML"}},
		{"wrong type", config(`name = "chime"`, `name = 3`), []string{"plan"}, 2,
			[]string{"piedmont.toml:2:8", "expected a text in quotes, found a number"}},
		{"unknown key", config(`language  =`, "langage = \"go\"\nlanguage  ="), []string{"plan"}, 2,
			[]string{"piedmont.toml:5:1", `unknown key "langage"`, `did you mean "language"?`}},
		{"unknown placeholder", config(`"{version}"`, `"{versoin}"`), []string{"plan"}, 2,
			[]string{"piedmont.toml:8:33", "unknown placeholder {versoin}", "{version}"}},
		{"unknown platform", config(here, "linux/amd46"), []string{"plan"}, 2,
			[]string{`no platform "linux/amd46"`, `did you mean "linux/amd64"?`}},
		{"duplicate file names", config(`files    = ["LICENSE"]`, "files    = [\"LICENSE\"]\nname = "+
			"\"{project}-{version}-source\""), []string{"plan"}, 2,
			[]string{"2 files would have the name chime-1.0.0-source.tar.gz", "chime: chime, 1 file", "commit",
				`"name"`}},
		{"missing source folder", config(`source    = "."`, `source    = "./cmd/none"`), []string{"plan"}, 2,
			[]string{`program "chime"`, "there is no folder ./cmd/none", "[program.chime]"}},
		{"folder without Go", config(`source    = "."`, `source    = "./.git"`), []string{"plan"}, 2,
			[]string{"holds no Go files"}},
		{"missing file", config(`["LICENSE"]`, `["LICENCE"]`), []string{"plan"}, 2,
			[]string{"there is no file LICENCE", "[bundle.chime]"}},
		{"empty pattern", config(`["LICENSE"]`, `["docs/**"]`), []string{"plan"}, 2,
			[]string{"nothing matches docs/**"}},
		{"two files at one place", config(`["LICENSE"]`, `["LICENSE", { from = "go.mod", to = "LICENSE" }]`),
			[]string{"plan"}, 2, []string{"two files would be LICENSE"}},
		{"name for no file system",
			config(`files    = ["LICENSE"]`, "files    = [\"LICENSE\"]\nname = \"a:b\""), []string{"plan"}, 2,
			[]string{`"a:b.tar.gz" cannot be a file name`}},
		{"does not compile", with(func(f map[string]string) {
			f["main.go"] = "package main\n\nfunc main() { undefinedThing() }\n"
		}), []string{"make"}, 1,
			[]string{"chime does not compile for " + here, "undefined: undefinedThing", "main.go:3", "Done: ",
				"pack chime-1.0.0-source.tar.gz", "Not begun: pack chime-1.0.0", "outbox is as it was"}},
		{"not a program", with(func(f map[string]string) { f["main.go"] = "package chime\n" }),
			[]string{"make"}, 1, []string{`is not a "package main"`}},
		{"not a git repository", func(t *testing.T) string { d := t.TempDir(); write(t, d, small()); return d },
			[]string{"plan"}, 2, []string{"not in a git repository", "git init"}},
		{"no commit yet", func(t *testing.T) string {
			d := t.TempDir()
			write(t, d, small())
			git(t, d, "init", "--quiet")
			return d
		}, []string{"make"}, 2, []string{"has no commit yet", "git commit"}},
		{"a preview is not published", func(t *testing.T) string {
			d := project(t, small())
			write(t, d, map[string]string{"new": "x"})
			return d
		}, []string{"ship"}, 2, []string{"1.0.1-preview.0.g", ".dirty is a preview", "changes that are not " +
			"committed", "previews = true"}},
		{"nothing to publish", with(func(map[string]string) {}), []string{"publish", "--to", "share"}, 2,
			[]string{"no 1.0.0 in the outbox", "piedmont make"}},
		{"no such destination", with(func(map[string]string) {}), []string{"publish", "--to", "shaer"}, 2,
			[]string{`no destination "shaer"`, `did you mean "share"?`}},
		{"unwritable outbox", with(func(f map[string]string) { f["outbox"] = "a file in the way\n" }),
			[]string{"make"}, 1, []string{"outbox must be writable"}},
		{"link out of a zip", func(t *testing.T) string {
			f := small()
			f["piedmont.toml"] = strings.Replace(f["piedmont.toml"], `["LICENSE"]`,
				"[\"LICENSE\", \"up\"]\nformats = \"zip\"", 1)
			d := filepath.Join(t.TempDir(), "p")
			write(t, d, f)
			if err := os.Symlink("../elsewhere", filepath.Join(d, "up")); err != nil {
				t.Fatal(err)
			}
			git(t, d, "init", "--quiet")
			git(t, d, "add", "--all")
			git(t, d, "commit", "--quiet", "--message", "Begin")
			return d
		}, []string{"plan"}, 2, []string{"symbolic link up leads to ../elsewhere", "zip cannot hold"}},
		{"no such command", with(func(map[string]string) {}), []string{"mkae"}, 2,
			[]string{`no command "mkae"`, `did you mean "make"?`}},
		{"no such option", with(func(map[string]string) {}), []string{"make", "--jbos", "2"}, 2,
			[]string{"no option --jbos", "--jobs"}},
		{"bad number", with(func(map[string]string) {}), []string{"make", "--jobs", "many"}, 2,
			[]string{`--jobs takes a number, not "many"`}},
		{"no such folder", with(func(map[string]string) {}), []string{"verify", "nowhere"}, 2,
			[]string{"there is nothing at nowhere"}},
		{"no archive", with(func(map[string]string) {}), []string{"show", "LICENSE"}, 1,
			[]string{"LICENSE: this is no file that Piedmont knows"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir := c.dir(t)
			r := call{dir: dir}.run(t, c.args...)
			if r.code != c.code {
				t.Errorf("exit %d, want %d", r.code, c.code)
			}
			contains(t, r.err, c.tells...)
			if strings.Contains(r.err, "goroutine") || r.out != "" {
				t.Errorf("out: %s\nerr: %s", r.out, r.err)
			}
			if _, err := os.Stat(filepath.Join(dir, "outbox", "1.0.0")); err == nil {
				t.Error("an outbox was laid out")
			}
		})
	}
}

// A preview is made freely, without a tag or on a changed tree.
func TestPreviews(t *testing.T) {
	dir := project(t, small())
	git(t, dir, "tag", "--delete", "v1.0.0")
	r := call{dir: dir}.ok(t, "plan")
	contains(t, r.out, "chime 0.0.1-preview.1.g",
		"a preview: HEAD carries no version tag; no earlier version is tagged", "it takes no previews")
	call{dir: dir}.ok(t, "make")

	write(t, dir, map[string]string{"piedmont.toml": strings.Replace(small()["piedmont.toml"],
		`path = "../share"`, "path = \"../share\"\npreviews = true", 1)})
	call{dir: dir}.ok(t, "ship") // to the folder only
	found, err := filepath.Glob(filepath.Join(dir, "../share/0.0.1-preview.1.g*.dirty"))
	if err != nil || len(found) != 1 {
		t.Errorf("published: %v %v", found, err)
	}
}

// A full disk: a clear message, and nothing half-made that the next run would take.
func TestFullDisk(t *testing.T) {
	small := filepath.Join(t.TempDir(), "small")
	if err := os.Mkdir(small, 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=6m", "tmpfs", small).CombinedOutput(); err != nil {
		testclient.Lacking(t, "a small tmpfs cannot be mounted: "+string(out))
	}
	defer func() { _ = exec.Command("umount", small).Run() }()
	origin := project(t, bulky())
	if err := exec.Command("git", "-c", "core.compression=9", "clone", "--quiet", "--depth=1", "--no-checkout",
		"file://"+origin, filepath.Join(small, "p")).Run(); err != nil {
		t.Skip("not even the repository fits: ", err)
	}
	dir := filepath.Join(small, "p")
	r := call{dir: dir}.run(t, "-C", dir, "make")
	if r.code == 0 {
		t.Fatal("a full disk went unnoticed")
	}
	// Without a checkout there is no piedmont.toml; make room for the files but not for the archives.
	if out, err := exec.Command("mount", "-o", "remount,size=17m", small).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	git(t, dir, "reset", "--quiet", "--hard")
	r = call{dir: dir}.run(t, "make")
	if r.code != 1 {
		t.Errorf("exit %d, want 1\n%s", r.code, r.err)
	}
	contains(t, r.err, "no space left", "The disk is full: make room")
	if out, err := exec.Command("mount", "-o", "remount,size=200m", small).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	call{dir: dir}.ok(t, "make")
	call{dir: dir}.ok(t, "make")
	found, err := filepath.Glob(filepath.Join(dir, "outbox", "*", "manifest.json"))
	if err != nil || len(found) != 1 {
		t.Fatalf("%v %v", found, err)
	}
	call{}.ok(t, "verify", found[0])
}
