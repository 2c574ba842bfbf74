// Package projecttest makes projects with a git history for tests.
package projecttest

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/environ"
)

// Env is an environment in which git is the same everywhere.
func Env() environ.Env {
	return environ.Env(nil).With("GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1",
		"GIT_AUTHOR_NAME=Ines Tarvold", "GIT_AUTHOR_EMAIL=ines@ridge-signals.example",
		"GIT_COMMITTER_NAME=Ines Tarvold", "GIT_COMMITTER_EMAIL=ines@ridge-signals.example",
		"GIT_AUTHOR_DATE=2026-05-02T07:30:00Z", "GIT_COMMITTER_DATE=2026-05-02T07:30:00Z")
}

// Git runs git in a project.
func Git(t testing.TB, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir, cmd.Env = dir, Env()
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// Commit writes files and commits them.
func Commit(t testing.TB, dir, message string, files map[string]string) {
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
	Git(t, dir, "add", "--all")
	Git(t, dir, "commit", "--quiet", "--allow-empty", "--message", message)
}

// New is a project with one commit, tagged v1.0.0.
func New(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	Git(t, dir, "init", "--quiet", "--initial-branch=main")
	Commit(t, dir, "feat: ring", files)
	Git(t, dir, "tag", "v1.0.0")
	return dir
}
