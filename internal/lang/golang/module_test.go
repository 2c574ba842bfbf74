package golang

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"piedmont/internal/make/inputs"
)

// The digest of a module changes with whatever the compiler could read, and
// with nothing else.
func TestDigestOfInputs(t *testing.T) {
	root := t.TempDir()
	module, beside := filepath.Join(root, "module"), filepath.Join(root, "beside")
	memo := filepath.Join(root, "memo.json")
	put := func(path, content string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	digest := func(workspace string) string {
		t.Helper()
		in := inputs.New(memo, filepath.Join(module, "outbox"))
		d, err := (&modules{inputs: in}).digest(t.Context(), module, workspace)
		if err != nil {
			t.Fatal(err)
		}
		if err := in.Save(); err != nil {
			t.Fatal(err)
		}
		return d
	}
	put(filepath.Join(module, "go.mod"), "module m\n\nrequire b v0.0.0\n\nreplace b => ../beside\n")
	put(filepath.Join(module, "main.go"), "package main\n")
	put(filepath.Join(module, "data.bin"), "data")
	put(filepath.Join(beside, "b.go"), "package b\n")
	put(filepath.Join(root, "third", "t.go"), "package third\n")
	first := digest("")

	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(filepath.Join(module, "main.go"), old, old); err != nil {
		t.Fatal(err)
	}
	put(filepath.Join(module, ".git", "index"), "git's own")
	put(filepath.Join(module, "outbox", "x"), "made")
	if digest("") != first {
		t.Error("a touched file, git's files or the outbox count")
	}
	seen := map[string]string{first: "nothing"}
	changes := []struct {
		what string
		do   func()
	}{
		{"a source", func() { put(filepath.Join(module, "main.go"), "package main // changed\n") }},
		{"a new file", func() { put(filepath.Join(module, "sub", "new.go"), "package sub\n") }},
		{"an embedded file, in the same second and size", func() { put(filepath.Join(module, "data.bin"), "DATA") }},
		{"a module beside it", func() { put(filepath.Join(beside, "b.go"), "package b // changed\n") }},
		{"the executable bit", func() {
			if err := os.Chmod(filepath.Join(module, "data.bin"), 0o755); err != nil {
				t.Fatal(err)
			}
		}},
		{"a broken link", func() {
			if err := os.Symlink("nowhere", filepath.Join(module, "link")); err != nil {
				t.Fatal(err)
			}
		}},
	}
	for _, c := range changes {
		c.do()
		d := digest("")
		if before, ok := seen[d]; ok {
			t.Errorf("%s does not count; the digest is that after %s", c.what, before)
		}
		seen[d] = c.what
	}
	workspace := filepath.Join(root, "go.work")
	put(workspace, "go 1.22\n\nuse ./module\nuse ./third\n")
	with := digest(workspace)
	put(filepath.Join(root, "third", "t.go"), "package third // changed\n")
	if seen[with] != "" || digest(workspace) == with {
		t.Error("the workspace does not count")
	}
}

func TestQuote(t *testing.T) {
	for in, want := range map[string]string{"main.v=1": "main.v=1", "main.v=a b": "'main.v=a b'",
		"main.v='a' b": `"main.v='a' b"`} {
		if got := quote(in); got != want {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
	}
}
