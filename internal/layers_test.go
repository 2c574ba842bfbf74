// Package internal holds the rule of which package may know which.
package internal

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// layers are the rooms of the house from the ground up; docs/architecture.md tells
// what they are for. A package belongs to the longest name that it begins with. It
// may know those of lower layers, those of its own room, and what siblings names.
var layers = [][]string{
	{"base"},
	{"format"},
	{"release"},
	{"config", "site", "serve/api", "publish/remote"},
	{"project", "lang/toolchain"},
	{"check/expect", "make/store", "make/inputs", "publish/layout"},
	{"make/engine"},
	{"plan", "make/work"},
	{"check", "plan/survey"},
	{"lang", "notes", "archive/source", "publish", "make/outbox", "check/preflight", "check/verify", "serve"},
	{"archive/bundle", "linuxpkg", "publish/static", "publish/publishtest"},
	{"check/trial", "publish/"},
	{"kinds"},
	{"cli"},
}

// apart are rooms whose packages are kinds of one thing and do not know each other.
var apart = []string{"lang", "linuxpkg", "publish", "publish/remote", "format/archive", "archive"}

// shared are the packages of such rooms that are there for the others.
var shared = []string{"lang/toolchain", "linuxpkg/packagetest", "publish/remote", "publish/layout",
	"publish/static", "publish/publishtest"}

// faces are libraries of terminals and command lines: only cli knows them.
var faces = []string{"github.com/urfave/cli/v3", "golang.org/x/term", "github.com/vbauerster/mpb/v8",
	"github.com/jedib0t/go-pretty/v6", "flag", "log"}

// outer are what belongs to the process: one program may do two things at once, so
// only cli asks for them, and base/environ where nothing was handed over.
var outer = []string{"Exit", "Args", "Stdout", "Stderr", "Stdin", "Getenv", "Setenv", "LookupEnv", "Environ",
	"Getwd", "Chdir", "UserCacheDir", "UserHomeDir"}

type listed struct {
	ImportPath, Dir  string
	Imports, GoFiles []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Dir,Imports,GoFiles", "./...")
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var list []listed
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			return list
		} else if err != nil {
			t.Fatal(err)
		}
		if len(p.GoFiles) > 0 {
			list = append(list, p)
		}
	}
}

func within(name, room string) bool {
	return name == room || strings.HasPrefix(name, strings.TrimSuffix(room, "/")+"/")
}

// layerOf finds a package's layer and its room.
func layerOf(name string) (layer int, room string) {
	layer = -1
	for i, rooms := range layers {
		for _, r := range rooms {
			if within(name, r) && len(r) > len(room) {
				layer, room = i, r
			}
		}
	}
	return layer, room
}

func TestNobodyKnowsUpwards(t *testing.T) {
	const own = "piedmont/internal/"
	for _, p := range packages(t) {
		name := strings.TrimPrefix(p.ImportPath, own)
		layer, room := layerOf(name)
		if layer < 0 {
			t.Errorf("%s has no room: put it into one, or give it a layer here and in docs/architecture.md", name)
			continue
		}
		for _, imported := range p.Imports {
			if slices.Contains(faces, imported) && room != "cli" {
				t.Errorf("%s knows %s, which is the face's alone", name, imported)
			}
			other, ok := strings.CutPrefix(imported, own)
			if !ok {
				continue
			}
			below, itsRoom := layerOf(other)
			if below > layer || below == layer && room != itsRoom {
				t.Errorf("%s (layer %d) knows %s (layer %d)", name, layer, other, below)
			}
			if sibling(name, other) {
				t.Errorf("%s knows %s: they are two kinds of one thing", name, other)
			}
		}
	}
}

// sibling says whether two packages are kinds of the same thing.
func sibling(a, b string) bool {
	up := filepath.ToSlash(filepath.Dir(a))
	return up == filepath.ToSlash(filepath.Dir(b)) && slices.Contains(apart, up) && !slices.Contains(shared, b)
}

// Only the face has a terminal, a folder that it is in, and an environment.
func TestOnlyTheFaceKnowsTheProcess(t *testing.T) {
	for _, p := range packages(t) {
		name := strings.TrimPrefix(p.ImportPath, "piedmont/internal/")
		if within(name, "cli") || within(name, "base/environ") || within(name, "base/testclient") {
			continue
		}
		for _, file := range p.GoFiles {
			for _, use := range usesOf(t, filepath.Join(p.Dir, file)) {
				t.Errorf("%s/%s uses %s", name, file, use)
			}
		}
	}
}

func lines(t *testing.T, path string) []string {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Split(string(data), "\n")
}

func usesOf(t *testing.T, path string) []string {
	t.Helper()
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, path, nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	ast.Inspect(f, func(n ast.Node) bool {
		sel, ok := n.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		of, ok := sel.X.(*ast.Ident)
		if !ok {
			return true
		}
		prints := of.Name == "fmt" && strings.HasPrefix(sel.Sel.Name, "Print")
		if of.Name == "os" && slices.Contains(outer, sel.Sel.Name) || prints {
			out = append(out, of.Name+"."+sel.Sel.Name+" in line "+strconv.Itoa(set.Position(n.Pos()).Line))
		}
		return true
	})
	return out
}

// No line is so long that a reader must move the window.
func TestLinesAreShort(t *testing.T) {
	const most = 120
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == ".git" || d.Name() == "testdata" || strings.HasPrefix(d.Name(), ".piedmont")) {
			return fs.SkipDir
		}
		if filepath.Ext(path) != ".go" {
			return nil
		}
		for i, line := range lines(t, path) {
			if n := len([]rune(strings.ReplaceAll(line, "\t", "    "))); n > most {
				t.Errorf("%s:%d has %d characters; %d are enough", path, i+1, n, most)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
