// Package testclient helps tests that need a real client of what Piedmont
// makes. On a user's machine a missing one skips the test; where CI is set, the
// test fails, since it should have been installed.
package testclient

import (
	"os"
	"os/exec"
	"testing"
)

// Need gives the path of a program.
func Need(t testing.TB, program string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err == nil {
		return path
	}
	Lacking(t, program+" is not installed")
	return ""
}

// Lacking skips the test with a reason, or fails it where CI is set.
func Lacking(t testing.TB, reason string) {
	t.Helper()
	if os.Getenv("CI") != "" {
		t.Fatal(reason)
	}
	t.Skip(reason)
}
