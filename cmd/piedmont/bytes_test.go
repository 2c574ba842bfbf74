package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The same commit gives the same bytes: in another folder, for another user
// with another locale, time zone and umask, with other parallelism and a fresh
// store.
func TestSameBytes(t *testing.T) {
	one := hutbell(t)
	call{dir: one, env: []string{"TZ=UTC", "LANG=C"}}.ok(t, "make", "--jobs", "1")

	home := t.TempDir()
	two := filepath.Join(t.TempDir(), "elsewhere", "a folder with spaces")
	if err := os.MkdirAll(filepath.Dir(two), 0o755); err != nil {
		t.Fatal(err)
	}
	sh := exec.Command("sh", "-c", "umask 077 && git clone --quiet \"$1\" \"$2\" && cd \"$2\" && exec "+
		"\"$3\" make --jobs 4", "sh", one, two, program)
	sh.Env = append(environment(), "HOME="+home, "TZ=Asia/Kathmandu", "LANG=tr_TR.UTF-8", "LC_ALL=tr_TR.UTF-8",
		"USER=somebody",
		"GOFLAGS=-tags=nothing", "GOAMD64=v3", "SOURCE_DATE_EPOCH=12345", "GOCACHE="+goEnv(t, "GOCACHE"),
		"GOPATH="+goEnv(t, "GOPATH"))
	if out, err := sh.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	sameTree(t, filepath.Join(one, "outbox", "1.4.0"), filepath.Join(two, "outbox", "1.4.0"))
	planned := decode[struct{ Files []any }](t, call{dir: one}.ok(t, "plan", "--json"))
	if n := len(tree(t, filepath.Join(one, "outbox", "1.4.0"))); n != len(planned.Files) || n < 15 {
		t.Errorf("the outbox holds %d files, want %d", n, len(planned.Files))
	}
}

func goEnv(t testing.TB, name string) string {
	t.Helper()
	out, err := exec.Command("go", "env", name).Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// What has not changed is not made again; what has, is.
func TestOnlyWhatChangedIsMade(t *testing.T) {
	dir := project(t, small())
	c := call{dir: dir}
	c.ok(t, "make")
	type made struct {
		Unchanged bool   `json:"unchanged"`
		Version   string `json:"version"`
	}
	if m := decode[made](t, c.ok(t, "make", "--json")); !m.Unchanged {
		t.Error("a second run made something")
	}
	r := c.ok(t, "make", "--verbose")
	contains(t, r.err, "compile chime for "+here+", unchanged")

	// A changed licence is packed again, and nothing is compiled.
	write(t, dir, map[string]string{"LICENSE": "Free for most.\n"})
	git(t, dir, "commit", "--quiet", "--all", "--message", "Change the licence")
	git(t, dir, "tag", "v1.0.1")
	m := decode[made](t, c.ok(t, "make", "--json"))
	if m.Unchanged || m.Version != "1.0.1" {
		t.Errorf("after a commit: %+v", m)
	}

	// Whoever writes into the outbox gets the right bytes back.
	file := filepath.Join(dir, "outbox", "1.0.1", "chime-1.0.1-source.zip")
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte("spoilt"), 0o644); err != nil {
		t.Fatal(err)
	}
	c.ok(t, "make")
	if got, err := os.ReadFile(file); err != nil || string(got) != string(want) {
		t.Errorf("the spoilt file was not mended: %v", err)
	}
	c.ok(t, "verify", filepath.Join(dir, "outbox", "1.0.1"))
}
