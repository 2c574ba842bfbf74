package lang

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/base/fileio"
	"piedmont/internal/base/platform"
	"piedmont/internal/lang/toolchain"
)

// Try compiles a trivial program for a platform with the toolchain of a
// module's folder. A success is remembered in the user's cache folder.
func (t *Tools) Try(ctx context.Context, dir string, on platform.Platform) error {
	g, err := t.Find(ctx, dir)
	if err != nil {
		return err
	}
	memo := ""
	if cache, err := os.UserCacheDir(); err == nil {
		sum := sha256.Sum256([]byte(strings.Join([]string{g.Version, g.Root, on.String()}, "\x00")))
		memo = filepath.Join(cache, "piedmont", "compiles-"+hex.EncodeToString(sum[:12]))
		if _, err := os.Stat(memo); err == nil {
			return nil
		}
	}
	tmp, err := os.MkdirTemp("", "piedmont-try-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	for name, content := range map[string]string{"go.mod": "module try\n", "main.go": "package main\n\nfunc main() {}\n"} {
		if err := os.WriteFile(filepath.Join(tmp, name), []byte(content), 0o644); err != nil {
			return err
		}
	}
	_, stderr, err := run(ctx, tmp, append(g.env("CGO_ENABLED=0", "GOWORK=off"), on.GoEnv()...), "go", "build", "-o", filepath.Join(tmp, "out"), ".")
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errors.New(firstOf(stderr, err.Error()))
	}
	if memo != "" && os.MkdirAll(filepath.Dir(memo), 0o755) == nil {
		_ = fileio.Write(memo, []byte(on.String()+"\n"), 0o644) // only a cache
	}
	return nil
}

// TryC compiles and links a trivial program with a C compiler, or one for C++.
// A success is remembered in the user's cache folder. The error says what the
// compiler said.
func TryC(ctx context.Context, cc *toolchain.Compiler, cxx, static bool) error {
	tool, err := driver(cc, cxx)
	if err != nil {
		return err
	}
	memo := ""
	if cache, err := os.UserCacheDir(); err == nil {
		sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s\x00%q\x00%v", tool, cc.Identity, cc.Platform, cc.Flags, static))
		memo = filepath.Join(cache, "piedmont", "compiles-"+hex.EncodeToString(sum[:12]))
		if _, err := os.Stat(memo); err == nil {
			return nil
		}
	}
	tmp, err := os.MkdirTemp("", "piedmont-try-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	source, text := "try.c", "#include <stdio.h>\nint main(void) { return puts(\"\") < 0; }\n"
	if cxx {
		source, text = "try.cc", "#include <string>\nint main() { return std::string().size() != 0; }\n"
	}
	if err := os.WriteFile(filepath.Join(tmp, source), []byte(text), 0o644); err != nil {
		return err
	}
	args := append(slices.Clone(cc.Flags), "-o", "out", source)
	if static {
		args = append(args, "-static")
	}
	_, stderr, err := run(ctx, tmp, slices.Concat(bareEnv(), cc.Env), tool, append(args, cc.LinkFlags...)...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errors.New(lastLines(firstOf(stderr, err.Error()), 4))
	}
	if memo != "" && os.MkdirAll(filepath.Dir(memo), 0o755) == nil {
		_ = fileio.Write(memo, []byte(cc.Platform.String()+"\n"), 0o644) // only a cache
	}
	return nil
}
