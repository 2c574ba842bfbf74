package main

import (
	"os"
	"path/filepath"
	"testing"

	"piedmont/internal/demo"
)

func TestDemoRunsToItsEnd(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "demo")
	r := call{dir: t.TempDir()}.ok(t, "demo", dir)
	contains(t, r.out, "hutbell 1.4.0 is public and verified", "is what its manifest says", "Where to look")
	if got := git(t, filepath.Join(dir, demo.Name), "rev-parse", "HEAD"); got != demo.Commit {
		t.Errorf("the last commit is %s, want %s", got, demo.Commit)
	}
	if got := git(t, filepath.Join(dir, demo.Name), "status", "--porcelain"); got != "" {
		t.Errorf("the outbox dirties the tree:\n%s", got)
	}
	call{}.ok(t, "verify", filepath.Join(dir, "share", demo.Version))
	call{}.ok(t, "verify", filepath.Join(dir, "hutbell", "outbox", demo.Version, "manifest.json"))
	if target, err := os.Readlink(filepath.Join(dir, "share", "latest")); err != nil || target != demo.Version {
		t.Errorf("latest leads to %q, %v", target, err)
	}
	if r := (call{}).run(t, "demo", dir); r.code != 2 {
		t.Errorf("a demo in a folder with something in it: exit %d\n%s", r.code, r.err)
	}
}
