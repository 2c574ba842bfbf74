package process

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/testclient"
)

func sh(t *testing.T, script string, c Command) (Command, string) {
	t.Helper()
	c.Name, c.Args, c.Env = testclient.Need(t, "sh"), []string{"-c", script}, append(os.Environ(), c.Env...)
	return c, script
}

func TestOutputAndStatus(t *testing.T) {
	c, _ := sh(t, "echo out; echo err >&2; exit 3", Command{})
	r := Do(t.Context(), c)
	var exit *exec.ExitError
	if r.Stdout != "out\n" || r.Stderr != "err\n" || !strings.Contains(r.Err.Error(), "3") {
		t.Errorf("%+v, %v", r, exit)
	}
	c, _ = sh(t, "yes | head -c 100000", Command{Limit: 1000})
	if r := Do(t.Context(), c); len(r.Stdout) != 1000 || r.Err != nil {
		t.Errorf("%d bytes were kept, %v", len(r.Stdout), r.Err)
	}
	if _, _, err := Run(t.Context(), Command{Name: "no-such-program-here"}); err == nil ||
		!strings.Contains(err.Error(), "not installed") {
		t.Error(err)
	}
}

// Whatever a stopped program has started ends with it, also what left its group.
func TestChildrenEnd(t *testing.T) {
	if _, err := os.Stat("/proc/self/environ"); err != nil {
		t.Skip("this system has no /proc to find them by")
	}
	testclient.Need(t, "setsid")
	dir := t.TempDir()
	c, _ := sh(t, "setsid sh -c 'while :; do date > apart; sleep 0.1; done' & sh -c 'while :; do date > "+
		"beside; sleep 0.1; done' & sleep 60", Command{Dir: dir, Mark: filepath.Base(dir)})
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	start := time.Now()
	Do(ctx, c)
	if took := time.Since(start); took > 20*time.Second {
		t.Errorf("it took %s", took)
	}
	time.Sleep(300 * time.Millisecond)
	for _, name := range []string{"apart", "beside"} {
		path := filepath.Join(dir, name)
		if _, err := os.Stat(path); err != nil {
			t.Errorf("%s was never started: %v", name, err)
		}
		_ = os.Remove(path)
	}
	time.Sleep(500 * time.Millisecond)
	if left, _ := filepath.Glob(filepath.Join(dir, "*")); len(left) > 0 {
		t.Errorf("still at work: %v", left)
	}
}

func TestOffline(t *testing.T) {
	c, _ := sh(t, "cat /proc/net/dev 2>/dev/null", Command{Offline: true})
	r := Do(t.Context(), c)
	if !r.Offline {
		t.Skip("this system does not let a program be without the network")
	}
	if strings.Contains(r.Stdout, "eth") || !strings.Contains(r.Stdout, "lo:") {
		t.Errorf("it sees:\n%s", r.Stdout)
	}
}
