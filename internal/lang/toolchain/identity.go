package toolchain

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fileio"
	"piedmont/internal/base/process"
)

// identity is a text that changes when a compiler does: what it says of its
// version. It is remembered by the program's size and time, since a process
// costs more than all else in a run that has nothing to do.
func identity(ctx context.Context, env environ.Env, c *Compiler) (string, error) {
	cc := c.Tools["cc"]
	real, err := filepath.EvalSymlinks(cc)
	if err != nil {
		real = cc
	}
	info, err := os.Stat(real)
	if err != nil {
		return "", fmt.Errorf("look at the compiler: %w", err)
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%d\x00%d", cc, real, info.Size(), info.ModTime().UnixNano()))
	memo := ""
	if cache, err := env.Cache(); err == nil {
		memo = filepath.Join(cache, "compiler-"+hex.EncodeToString(sum[:12]))
		if data, err := os.ReadFile(memo); err == nil && len(data) > 0 {
			return string(data), nil
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	out, _, err := process.Run(ctx, process.Command{Name: cc, Args: []string{"--version"}, Env: env.With(c.Env...)})
	if err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", Missing(fmt.Sprintf("%s does not run: %v", cc, err), "repair or reinstall it")
	}
	text := fmt.Sprintf("%s %d", strings.TrimSpace(out), info.Size())
	if memo != "" && os.MkdirAll(filepath.Dir(memo), 0o755) == nil {
		_ = fileio.Write(memo, []byte(text), 0o644) // only a cache
	}
	return text, nil
}

// Version is the first line of what the compiler says of itself.
func (c *Compiler) Version() string {
	line, _, _ := strings.Cut(c.Identity, "\n")
	return line
}
