package cc

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fileio"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
)

// Try compiles and links a trivial program with a C compiler, or one for C++.
// A success is remembered in the user's cache folder. The error says what the
// compiler said.
func Try(ctx context.Context, env environ.Env, cc *toolchain.Compiler, need plan.CompilerNeed) error {
	cxx, static := need.CXX, need.Static
	tool, err := driver(cc, cxx)
	if err != nil {
		return err
	}
	memo := ""
	if cache, err := env.Cache(); err == nil {
		sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s\x00%q\x00%v", tool, cc.Identity, cc.Platform,
			cc.Flags, static))
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
	_, stderr, err := lang.Run(ctx, tmp, slices.Concat(lang.BareEnv(env), cc.Env), tool,
		append(args, cc.LinkFlags...)...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errors.New(lang.LastLines(lang.FirstOf(stderr, err.Error()), 4))
	}
	if memo != "" && os.MkdirAll(filepath.Dir(memo), 0o755) == nil {
		_ = fileio.Write(memo, []byte(cc.Platform.String()+"\n"), 0o644) // only a cache
	}
	return nil
}
