package lang

import (
	"context"
	"fmt"
	"strings"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/platform"
	"piedmont/internal/base/process"
)

// CompileError is a compiler's refusal, with what it said.
type CompileError struct {
	Platform platform.Platform
	Programs []string
	What     string // what happened; "" for a program that does not compile
	Output   string
}

// Title says what happened in one line.
func (e *CompileError) Title() string {
	what := e.What
	if what == "" {
		what = "does not compile"
	}
	return fmt.Sprintf("%s %s for %s", strings.Join(e.Programs, ", "), what, e.Platform)
}

func (e *CompileError) Error() string {
	return e.Title() + ":\n" + strings.TrimRight(e.Output, "\n")
}

// Run runs a program as process.Run does.
func Run(ctx context.Context, dir string, env []string, name string, args ...string) (stdout, stderr string,
	err error) {
	return process.Run(ctx, process.Command{Dir: dir, Env: env, Name: name, Args: args})
}

// BareEnv is what every build gets of the caller's environment: where programs
// are, and where temporary files go. Language, time zone and all else are fixed.
func BareEnv(env environ.Env, extra ...string) []string {
	out := []string{"LC_ALL=C.UTF-8", "TZ=UTC"}
	for _, name := range []string{"PATH", "TMPDIR", "TEMP", "TMP", "SYSTEMROOT", "PATHEXT", "COMSPEC"} {
		if v, ok := env.Lookup(name); ok {
			out = append(out, name+"="+v)
		}
	}
	return append(out, extra...)
}

// LastLines cuts a long output to its end, where the reason is.
func LastLines(text string, n int) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	if len(lines) <= n {
		return strings.Join(lines, "\n")
	}
	return fmt.Sprintf("[%d lines before these]\n%s", len(lines)-n, strings.Join(lines[len(lines)-n:], "\n"))
}

// FirstOf gives the first text that is not empty.
func FirstOf(texts ...string) string {
	for _, t := range texts {
		if t = strings.TrimSpace(t); t != "" {
			return t
		}
	}
	return ""
}
