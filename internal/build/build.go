// Package build makes programs: one file for each language. A builder turns a
// planned build into files in a folder, and says what its result depends on.
package build

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"piedmont/internal/platform"
)

// CompileError is a compiler's refusal, with what it said.
type CompileError struct {
	Platform platform.Platform
	Programs []string
	Output   string
}

func (e *CompileError) Error() string {
	return fmt.Sprintf("%s does not compile for %s:\n%s", strings.Join(e.Programs, ", "), e.Platform, strings.TrimRight(e.Output, "\n"))
}

// run runs a compiler in a process group of its own, which ends with ctx:
// asked first, then killed with all its children.
func run(ctx context.Context, dir string, env []string, name string, args ...string) (stdout, stderr string, err error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir, cmd.Env = dir, env
	ownGroup(cmd)
	cmd.Cancel = func() error { return stopGroup(cmd) }
	cmd.WaitDelay = 3 * time.Second
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err = cmd.Run()
	if ctx.Err() != nil {
		killGroup(cmd)
		return "", "", ctx.Err()
	}
	if errors.Is(err, exec.ErrNotFound) {
		err = fmt.Errorf("%s is not installed or not on PATH", name)
	}
	return out.String(), errOut.String(), err
}
