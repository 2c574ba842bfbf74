package main

import (
	"debug/elf"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
)

// What start writes, plan accepts, and make makes.
func TestStart(t *testing.T) {
	files := small()
	delete(files, "piedmont.toml")
	dir := project(t, files)
	git(t, dir, "remote", "add", "origin", "git@code.example.org:ridge/chime.git")
	c := call{dir: dir}
	printed := c.ok(t, "start", "--print")
	contains(t, printed.out, `name = "chime"`, `repository = "https://code.example.org/ridge/chime"`,
		`"main.version" = "{version}"`)
	contains(t, c.ok(t, "start").out, "piedmont.toml is written", "chime (.)")
	if r := c.run(t, "start"); r.code != 2 || !strings.Contains(r.err, "stays as it is") {
		t.Errorf("a second start: exit %d\n%s", r.code, r.err)
	}
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "--message", "Describe the release")
	git(t, dir, "tag", "v1.0.1")
	contains(t, c.ok(t, "plan").out, "chime-1.0.1-windows-amd64.zip", "chime-1.0.1-source.tar.gz")
	if r := (call{dir: t.TempDir()}).run(t, "start"); r.code != 2 || !strings.Contains(r.err, "no Go program here") {
		t.Errorf("nothing to start from: exit %d\n%s", r.code, r.err)
	}
}

func TestOneStaticFile(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("ELF is looked at on Linux only")
	}
	f, err := elf.Open(program)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP || p.Type == elf.PT_DYNAMIC {
			t.Error("the program is not static")
		}
	}
}

// Programs of one platform with equal flags come out of one run of the
// compiler, and others get runs of their own; each is the right program.
func TestGroupsOfPrograms(t *testing.T) {
	main := func(says string) string {
		return "package main\n\nvar word string\n\nfunc main() { println(\"" + says + " \" + word) }\n"
	}
	dir := project(t, map[string]string{
		"go.mod":         "module bells\n\ngo 1.22\n",
		"main.go":        main("root"),
		"cmd/one/x.go":   main("one"),
		"cmd/two/x.go":   main("two"),
		"cmd/three/x.go": main("three"),
		"tool/go.mod":    "module tool\n\ngo 1.22\n",
		"tool/t/x.go":    main("tool"),
		"piedmont.toml": `[project]
name = "bells"

[platforms]
here = ["` + here + `"]

[program.one]
language = "go"
source = "cmd/one"
platforms = "here"
stamp = { "main.word" = "equal" }

[program.two]
language = "go"
source = "./cmd/two"
platforms = "here"
stamp = { "main.word" = "equal" }

[program.renamed]
language = "go"
source = "cmd/three/"
platforms = "here"
stamp = { "main.word" = "two words 'quoted'" }

[program.root]
language = "go"
source = "."
platforms = "here"
flags = ["-ldflags=-s -w"]
tags = ["a", "b"]

[program.tool]
language = "go"
source = "tool/t"
platforms = "here"
env = { GOEXPERIMENT = "" }

[bundle.all]
programs = ["one", "two", "renamed", "root", "tool"]
`})
	c := call{dir: dir}
	contains(t, c.ok(t, "plan").out, "5 programs to make in 4 runs")
	c.ok(t, "make")
	into := t.TempDir()
	archives, err := filepath.Glob(filepath.Join(dir, "outbox/1.0.0/*.tar.gz"))
	if err != nil || len(archives) != 1 {
		t.Fatalf("%v %v", archives, err)
	}
	if out, err := command("tar", "-xzf", archives[0], "-C", into).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for name, want := range map[string]string{"one": "one equal", "two": "two equal",
		"renamed": "three two words 'quoted'", "root": "root ", "tool": "tool "} {
		out, err := command(filepath.Join(into, name)).CombinedOutput()
		if err != nil || strings.TrimSuffix(string(out), "\n") != want {
			t.Errorf("%s says %q (%v), want %q", name, out, err, want)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, ".piedmont", "holder.json")); err == nil {
		t.Error("the lock is still held")
	}
}
