package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"piedmont/internal/cli/demo"
)

// program is the built piedmont that the tests drive.
var program string

// door makes the tests depend on the program's code, so that a result that Go
// remembers is not taken for that of other code.
var door = main

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "piedmont-test-")
	if err != nil || door == nil {
		panic(err)
	}
	program = filepath.Join(dir, "piedmont")
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build piedmont: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// result is what one call did.
type result struct {
	out, err string
	code     int
}

// call is one call of piedmont; the zero value runs in the current folder.
type call struct {
	dir string
	env []string
}

// run runs piedmont to its end.
func (c call) run(t testing.TB, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Env = c.dir, append(environment(), c.env...)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("run %v: %v", args, err)
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// ok runs piedmont and fails the test when it does not succeed.
func (c call) ok(t testing.TB, args ...string) result {
	t.Helper()
	r := c.run(t, args...)
	if r.code != 0 {
		t.Fatalf("piedmont %s: exit %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.err)
	}
	return r
}

// environment is that of the tests without what could get into the way.
func environment() []string {
	var env []string
	for _, kv := range os.Environ() {
		if !strings.HasPrefix(kv, "GIT_") && !strings.HasPrefix(kv, "HUTBELL_") && !strings.HasPrefix(kv, "LC_") {
			env = append(env, kv)
		}
	}
	return append(env, "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1", "NO_COLOR=1", "LANG=C.UTF-8")
}

// git runs git in a folder, as somebody with a name and a fixed date.
func git(t testing.TB, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = append(environment(), "GIT_AUTHOR_NAME=Ines", "GIT_AUTHOR_EMAIL=ines@ridge-signals.example",
		"GIT_COMMITTER_NAME=Ines",
		"GIT_COMMITTER_EMAIL=ines@ridge-signals.example", "GIT_AUTHOR_DATE=2026-05-02T07:30:00Z",
		"GIT_COMMITTER_DATE=2026-05-02T07:30:00Z")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// write writes files into a folder, by path.
func write(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, content := range files {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// here is the platform of this machine.
var here = runtime.GOOS + "/" + runtime.GOARCH

// small is a project that compiles in a moment: one program for this machine.
func small() map[string]string {
	return map[string]string{
		"go.mod":  "module chime\n\ngo 1.22\n",
		"main.go": "package main\n\nvar version = \"?\"\n\nfunc main() { println(\"chime\", version) }\n",
		"LICENSE": "Free for all.\n",
		"piedmont.toml": `[project]
name = "chime"

[program.chime]
language  = "go"
source    = "."
platforms = ["` + here + `"]
stamp     = { "main.version" = "{version}" }

[bundle.chime]
programs = ["chime"]
files    = ["LICENSE"]

[source]
formats = ["tar.gz", "zip"]

[destination.page]
kind  = "release-page"
url   = "env:CHIME_PAGE"
token = "env:CHIME_TOKEN"

[destination.share]
kind = "folder"
path = "../share"
`,
	}
}

// project makes a folder with a git repository, one commit and the tag v1.0.0.
func project(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "project")
	write(t, dir, files)
	git(t, dir, "init", "--quiet", "--initial-branch=main")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "--message", "Begin")
	git(t, dir, "tag", "v1.0.0")
	return dir
}

// hutbell writes the sample project, with its last commit tagged as a release.
func hutbell(t testing.TB) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "hutbell")
	if err := demo.Write(t.Context(), dir, nil); err != nil {
		t.Fatal(err)
	}
	git(t, dir, "tag", "v"+demo.Version)
	return dir
}

// decode reads the JSON that a command printed.
func decode[T any](t testing.TB, r result) T {
	t.Helper()
	var v T
	if err := json.Unmarshal([]byte(r.out), &v); err != nil {
		t.Fatalf("not JSON: %v\n%s%s", err, r.out, r.err)
	}
	return v
}

// tree reads every file below a folder, by path.
func tree(t testing.TB, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		out[filepath.ToSlash(rel)] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// sameTree compares two folders file by file.
func sameTree(t testing.TB, a, b string) {
	t.Helper()
	x, y := tree(t, a), tree(t, b)
	for name := range x {
		if other, ok := y[name]; !ok {
			t.Errorf("%s is in %s only", name, a)
		} else if other != x[name] {
			t.Errorf("%s differs", name)
		}
	}
	for name := range y {
		if _, ok := x[name]; !ok {
			t.Errorf("%s is in %s only", name, b)
		}
	}
}

func contains(t testing.TB, text string, parts ...string) {
	t.Helper()
	for _, p := range parts {
		if !strings.Contains(text, p) {
			t.Errorf("%q is not in:\n%s", p, text)
		}
	}
}

// command is one of another program, in the environment of the tests.
func command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Env = environment()
	return cmd
}
