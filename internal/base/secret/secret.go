// Package secret fetches what must not be written down, such as tokens, from
// the place that a description names.
package secret

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
)

// Place says where a secret is, never what it is.
type Place struct {
	From  string // one of Forms, or "" when none is given
	Value string // the variable's name, the file's path, the command line
}

// Forms are the ways to name a place.
var Forms = []string{"env", "file", "command"}

// Parse reads env:NAME, file:PATH or command:LINE; false when it is none of
// them. Whoever reports that does not repeat the text: it may be the secret.
func Parse(text string) (Place, bool) {
	from, value, ok := strings.Cut(text, ":")
	if !ok || !slices.Contains(Forms, from) || value == "" {
		return Place{}, false
	}
	return Place{from, value}, true
}

// String names the place, which is safe to show.
func (p Place) String() string {
	if p.From == "" {
		return "no token"
	}
	return p.From + ":" + p.Value
}

// Fetch gives a secret of one word, "" where no place is named. Files and
// commands are those of the project in root. Errors name the place, never what
// was there.
func Fetch(ctx context.Context, root string, env environ.Env, p Place) (string, error) {
	var text string
	switch p.From {
	case "":
		return "", nil
	case "env":
		text = env.Get(p.Value)
		if text == "" {
			return "", fault.New(fmt.Sprintf("the environment variable %s, which holds the token, is not set", p.Value),
				"Set it: export "+p.Value+"=…")
		}
	case "file":
		path := p.Value
		if !filepath.IsAbs(path) {
			path = filepath.Join(root, path)
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return "", fault.New(fmt.Sprintf("the file with the token cannot be read: %v", err), "")
		}
		text = string(data)
	case "command":
		out, err := fromCommand(ctx, root, env, p.Value)
		if err != nil {
			return "", err
		}
		text = out
	}
	text = strings.TrimSpace(text)
	if text == "" || strings.ContainsFunc(text, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return "", fault.New(
			fmt.Sprintf("what %s gives is not a token: a token is one word of plain characters", p), "")
	}
	return text, nil
}

func fromCommand(ctx context.Context, root string, env environ.Env, line string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	if runtime.GOOS == "windows" {
		cmd = exec.CommandContext(ctx, "cmd", "/C", line)
	}
	cmd.Dir, cmd.Env = root, env.List()
	cmd.WaitDelay = time.Second
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Run(); err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return "", fault.New("the command that gives the token did not end within a minute", "")
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", fault.New(fmt.Sprintf("the command that gives the token failed: %v", err), "Try it by hand: "+line)
	}
	return out.String(), nil
}
