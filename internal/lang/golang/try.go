package golang

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"piedmont/internal/base/fileio"
	"piedmont/internal/base/platform"
	"piedmont/internal/lang"
)

// Try compiles a trivial program for a platform with the toolchain of a
// module's folder. A success is remembered in the user's cache folder.
func (t *Tools) Try(ctx context.Context, dir string, on platform.Platform) error {
	g, err := t.Find(ctx, dir)
	if err != nil {
		return err
	}
	memo := ""
	if cache, err := t.Env.Cache(); err == nil {
		sum := sha256.Sum256([]byte(strings.Join([]string{g.Version, g.Root, on.String()}, "\x00")))
		memo = filepath.Join(cache, "compiles-"+hex.EncodeToString(sum[:12]))
		if _, err := os.Stat(memo); err == nil {
			return nil
		}
	}
	tmp, err := os.MkdirTemp("", "piedmont-try-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	for name, content := range map[string]string{"go.mod": "module try\n",
		"main.go": "package main\n\nfunc main() {}\n"} {
		if err := os.WriteFile(filepath.Join(tmp, name), []byte(content), 0o644); err != nil {
			return err
		}
	}
	_, stderr, err := lang.Run(ctx, tmp, append(g.environ("CGO_ENABLED=0", "GOWORK=off"), on.GoEnv()...), "go",
		"build", "-o", filepath.Join(tmp, "out"), ".")
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errors.New(lang.FirstOf(stderr, err.Error()))
	}
	if memo != "" && os.MkdirAll(filepath.Dir(memo), 0o755) == nil {
		_ = fileio.Write(memo, []byte(on.String()+"\n"), 0o644) // only a cache
	}
	return nil
}
