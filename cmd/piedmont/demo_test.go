package main

import (
	"os"
	"path/filepath"
	"testing"

	"piedmont/internal/cli/demo"
)

func TestDemoRunsToItsEnd(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "demo")
	r := call{dir: t.TempDir()}.ok(t, "demo", dir)
	contains(t, r.out, "piedmont ready", "HEAD carries no version tag", "hutbell 1.3.0 → 1.4.0",
		"hutbell 1.4.0 is public and verified", "is what its manifest says", "Where to look")
	if got := git(t, filepath.Join(dir, demo.Name), "rev-parse", "HEAD~1"); got != demo.Commit {
		t.Errorf("the last commit before the cut is %s, want %s", got, demo.Commit)
	}
	if got := git(t, filepath.Join(dir, demo.Name), "rev-parse",
		"v"+demo.Version); got != "34aad0c85254f245bb17e510e7435142b6046ee7" {
		t.Errorf("what was cut is %s, and not the same everywhere", got)
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
