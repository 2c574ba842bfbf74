package git

import (
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func git(t *testing.T, dir string, args ...string) {
	t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1",
		"GIT_AUTHOR_NAME=I", "GIT_AUTHOR_EMAIL=i@x.example",
		"GIT_COMMITTER_NAME=I", "GIT_COMMITTER_EMAIL=i@x.example", "GIT_COMMITTER_DATE=2026-05-02T07:30:00Z")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
}

func commit(t *testing.T, dir, name, content string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "--message", "Change "+name)
}

func TestFacts(t *testing.T) {
	dir := t.TempDir()
	r := Repo{Dir: dir}
	if _, err := r.Facts(t.Context()); !errors.Is(err, ErrNoRepository) {
		t.Errorf("no repository: %v", err)
	}
	git(t, dir, "init", "--quiet", "--initial-branch=main")
	if _, err := r.Facts(t.Context()); !errors.Is(err, ErrNoCommit) {
		t.Errorf("no commit: %v", err)
	}
	commit(t, dir, "a", "1")
	any := func(string) bool { return true }
	if tag, n, err := r.LastTag(t.Context(), "v*", any); err != nil || tag != "" || n != 1 {
		t.Errorf("no tag: %q %d %v", tag, n, err)
	}
	git(t, dir, "tag", "v1.0.0")
	commit(t, dir, "a", "2")
	git(t, dir, "tag", "vnext-g1")
	git(t, dir, "tag", "--annotate", "--message", "x", "other")
	commit(t, dir, "a", "3")
	if tag, n, err := r.LastTag(t.Context(), "v*",
		func(tag string) bool { return tag != "vnext-g1" }); err != nil || tag != "v1.0.0" || n != 2 {
		t.Errorf("a tag that is no version is passed over: %q %d %v", tag, n, err)
	}
	git(t, dir, "tag", "v1.1.0")
	git(t, dir, "checkout", "--quiet", "--detach")
	f, err := r.Facts(t.Context())
	if err != nil || len(f.Commit) != 40 || strings.Join(f.Here, " ") != "v1.1.0" || len(f.Dirty) != 0 ||
		f.Time.Format("15:04 MST") != "07:30 UTC" {
		t.Errorf("%v %+v", err, f)
	}
	if err := os.WriteFile(filepath.Join(dir, "new file"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if f, err := r.Facts(t.Context()); err != nil || strings.Join(f.Dirty, ",") != "new file" {
		t.Errorf("%v %+v", err, f)
	}
	if url, err := r.Remote(t.Context()); err != nil || url != "" {
		t.Errorf("a remote: %s, %v", url, err)
	}
}

// Contents come as they were committed, whatever this machine would convert.
func TestTreeIsWhatWasCommitted(t *testing.T) {
	dir := t.TempDir()
	git(t, dir, "init", "--quiet")
	commit(t, dir, "a.txt", "one\ntwo\n")
	commit(t, dir, ".gitattributes", "*.txt text eol=crlf filter=shout\nb.txt export-ignore\n")
	commit(t, dir, "b.txt", "")
	git(t, dir, "config", "filter.shout.smudge", "tr a-z A-Z")
	if err := os.WriteFile(filepath.Join(dir, "a.txt"), []byte("changed in the tree"), 0o644); err != nil {
		t.Fatal(err)
	}
	r := Repo{Dir: dir}
	files, err := r.Tree(t.Context(), "HEAD")
	if err != nil || len(files) != 2 {
		t.Fatalf("%v %+v", err, files)
	}
	blobs := r.Blobs(t.Context())
	defer blobs.Close()
	for range 2 { // again and again from one process
		for _, f := range files {
			in, err := blobs.Open(f)
			if err != nil {
				t.Fatal(err)
			}
			data, err := io.ReadAll(in)
			if err != nil || int64(len(data)) != f.Size || (f.Path == "a.txt" && string(data) != "one\ntwo\n") {
				t.Errorf("%s: %q %v", f.Path, data, err)
			}
		}
	}
}

// However early a question ends, git leaves no lock behind that stops the next
// one: here it ends since another of the questions has no answer.
func TestEndedQuestionLeavesNoLock(t *testing.T) {
	dir := t.TempDir()
	git(t, dir, "init", "--quiet", "--initial-branch=main")
	for i := range 50 {
		if _, err := (Repo{Dir: dir}).Facts(t.Context()); !errors.Is(err, ErrNoCommit) {
			t.Fatal(err)
		}
		if _, err := os.Stat(filepath.Join(dir, ".git", "index.lock")); err == nil {
			t.Fatalf("after %d a lock is left", i)
		}
	}
}
