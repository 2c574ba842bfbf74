package secret

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/environ"
)

func TestSecret(t *testing.T) {
	root := t.TempDir()
	for name, content := range map[string]string{"token": "pdm_file\n", "empty": "\n", "two": "a b",
		"control": "a\x1b[31m"} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	env := environ.Env(os.Environ()).With("A_TOKEN=pdm_env", "BAD_TOKEN=sesame open")
	for s, want := range map[Place]string{
		{From: "env", Value: "A_TOKEN"}: "pdm_env", {From: "file", Value: "token"}: "pdm_file",
		{From: "file", Value: filepath.Join(root, "token")}: "pdm_file",
		{From: "command", Value: "cat token"}:               "pdm_file", {}: "",
	} {
		if got, err := Fetch(t.Context(), root, env, s); err != nil || got != want {
			t.Errorf("%s: %q %v", s, got, err)
		}
	}
	for s, want := range map[Place]string{
		{From: "env", Value: "NOT_SET"}:   "NOT_SET, which holds the token, is not set",
		{From: "env", Value: "BAD_TOKEN"}: "what env:BAD_TOKEN gives is not a token",
		{From: "file", Value: "none"}:     "cannot be read", {From: "file", Value: "empty"}: "is not a token",
		{From: "file", Value: "two"}:                       "is not a token",
		{From: "file", Value: "control"}:                   "is not a token",
		{From: "command", Value: "echo secret >&2; false"}: "the command that gives the token failed",
	} {
		_, err := Fetch(t.Context(), root, env, s)
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "sesame") {
			t.Errorf("%s: %v", s, err)
		}
	}
}
