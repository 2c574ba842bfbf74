package lang

import (
	"os"
	"path/filepath"
	"testing"
)

// Only what a good build left, and nobody touched since, is trusted.
func TestBuildDir(t *testing.T) {
	k := BuildDir{filepath.Join(t.TempDir(), "linux")}
	put := func(name, content string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(k.Dir, name), []byte(content), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	left := func() int {
		t.Helper()
		entries, err := os.ReadDir(k.Dir)
		if err != nil {
			t.Fatal(err)
		}
		return len(entries)
	}
	open := func() {
		t.Helper()
		if err := k.Open(); err != nil {
			t.Fatal(err)
		}
	}
	open()
	put("bell", "whole")
	put("other", "not of this build")
	if err := k.Close([]string{"bell"}); err != nil {
		t.Fatal(err)
	}
	open()
	if left() != 1 {
		t.Errorf("%d files are trusted, want 1", left())
	}
	// This run is killed: its Close never comes.
	open()
	if left() != 0 {
		t.Error("what a killed run left is trusted")
	}
	put("bell", "whole")
	if err := k.Close([]string{"bell"}); err != nil {
		t.Fatal(err)
	}
	put("bell", "cut")
	open()
	if left() != 0 {
		t.Error("what somebody changed is trusted")
	}
}
