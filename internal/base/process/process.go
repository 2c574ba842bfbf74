// Package process runs other programs: each in a process group of its own,
// which ends with the context, and where asked without a network.
package process

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"syscall"
	"time"
)

// Command is one call of a program.
type Command struct {
	Dir  string
	Env  []string
	Name string
	Args []string
	// Limit is how many bytes of each output are kept, 0 for all.
	Limit int
	// Offline asks for a network namespace of its own, with nothing in it but a
	// loopback. Where the system does not allow that, it runs with the network.
	Offline bool
	// Mark is a text in the environment by which whatever the program leaves
	// running is found and ended; "" for none.
	Mark string
}

// MarkName is the variable that carries a Command's Mark.
const MarkName = "PIEDMONT_TRIAL"

// Result is what came of a call.
type Result struct {
	Stdout, Stderr string
	Offline        bool  // it had no network
	Err            error // an *exec.ExitError when it ran and did not end well
}

// patience is how long a program that was asked to end may take.
const patience = 3 * time.Second

// Run runs a program to its end. When ctx ends, it is asked to stop, then
// killed with all its children.
func Run(ctx context.Context, c Command) (stdout, stderr string, err error) {
	r := Do(ctx, c)
	if ctx.Err() != nil {
		return "", "", ctx.Err()
	}
	return r.Stdout, r.Stderr, r.Err
}

// Do is Run for those who want to know all; what a stopped program had written
// is in the result, too.
func Do(ctx context.Context, c Command) Result { return do(ctx, c, 0) }

// busyTries is how often a busy program is started again, in about a second.
const busyTries = 10

func do(ctx context.Context, c Command, tries int) Result {
	var r Result
	for _, offline := range ways(c.Offline) {
		out, errOut := &limited{most: c.Limit}, &limited{most: c.Limit}
		cmd := exec.CommandContext(ctx, c.Name, c.Args...)
		cmd.Dir, cmd.Env = c.Dir, c.Env
		if c.Mark != "" {
			cmd.Env = append(cmd.Env, MarkName+"="+c.Mark)
		}
		ownGroup(cmd)
		cmd.Cancel = func() error { return stopGroup(cmd) }
		cmd.WaitDelay = patience
		cmd.Stdout, cmd.Stderr = out, errOut
		r.Err = offline.start(cmd)
		// A program that was written just now is busy for as long as a process that
		// another goroutine forks has not yet closed what it inherited.
		if errors.Is(r.Err, syscall.ETXTBSY) && tries < busyTries {
			time.Sleep(10 * time.Millisecond << min(tries, 4))
			r.Err = nil
			return do(ctx, c, tries+1)
		}
		if r.Err != nil {
			if offline.alone && ctx.Err() == nil {
				continue // not allowed here: the next way
			}
			break
		}
		r.Offline = offline.alone
		r.Err = cmd.Wait()
		if ctx.Err() != nil || c.Mark != "" {
			killGroup(cmd)
			killMarked(c.Mark)
		}
		r.Stdout, r.Stderr = out.kept.String(), errOut.kept.String()
		break
	}
	if errors.Is(r.Err, exec.ErrNotFound) {
		r.Err = fmt.Errorf("%s is not installed or not on PATH", c.Name)
	}
	return r
}

// way is one way to start a program.
type way struct {
	alone bool // without the network
	start func(*exec.Cmd) error
}

func ways(offline bool) []way {
	plain := way{false, (*exec.Cmd).Start}
	if !offline {
		return []way{plain}
	}
	return append(isolated(), plain)
}

// limited keeps the first bytes that are written to it. It has no other methods
// of a buffer, by which a copy could go around Write.
type limited struct {
	kept bytes.Buffer
	most int
}

func (l *limited) Write(p []byte) (int, error) {
	if room := l.most - l.kept.Len(); l.most > 0 && len(p) > room {
		l.kept.Write(p[:max(0, room)])
		return len(p), nil
	}
	return l.kept.Write(p)
}
