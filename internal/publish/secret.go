package publish

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"piedmont/internal/config"
)

// Secret fetches a secret from the place that the configuration names. Errors
// name the place, never what was there.
func Secret(ctx context.Context, root string, s config.Secret) (string, error) {
	var text string
	switch s.From {
	case "":
		return "", nil
	case "env":
		text = os.Getenv(s.Value)
		if text == "" {
			return "", &Refusal{Reason: fmt.Sprintf("the environment variable %s, which holds the token, is not set", s.Value), Mend: "Set it: export " + s.Value + "=…"}
		}
	case "file":
		path := s.Value
		if !filepath.IsAbs(path) {
			path = filepath.Join(root, path)
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return "", &Refusal{Reason: fmt.Sprintf("the file with the token cannot be read: %v", err)}
		}
		text = string(data)
	case "command":
		out, err := secretCommand(ctx, root, s.Value)
		if err != nil {
			return "", err
		}
		text = out
	}
	text = strings.TrimSpace(text)
	if text == "" || strings.ContainsFunc(text, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return "", &Refusal{Reason: fmt.Sprintf("what %s gives is not a token: a token is one word of plain characters", s)}
	}
	return text, nil
}

func secretCommand(ctx context.Context, root, line string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	if runtime.GOOS == "windows" {
		cmd = exec.CommandContext(ctx, "cmd", "/C", line)
	}
	cmd.Dir = root
	cmd.WaitDelay = time.Second
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Run(); err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return "", &Refusal{Reason: "the command that gives the token did not end within a minute"}
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", &Refusal{Reason: fmt.Sprintf("the command that gives the token failed: %v", err), Mend: "Try it by hand: " + line}
	}
	return out.String(), nil
}
