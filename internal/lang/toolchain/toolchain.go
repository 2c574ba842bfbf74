// Package toolchain finds the compilers of a project's platforms: those that
// the project declares, Debian's cross compilers by their triplets, and the
// system's own. It fetches and unpacks those that come as archives.
package toolchain

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
	"piedmont/internal/base/progress"
	"piedmont/internal/config"
)

// Compiler is what compiles for one platform. Paths are absolute; a tool that
// is not there is "".
type Compiler struct {
	Name      string // of the [toolchain.NAME], "" for one that is known anyway
	From      string // where it is from, for people
	Platform  platform.Platform
	Triplet   string
	Tools     map[string]string // by cc, cxx, ar, ranlib, strip, nm, objcopy, ld, windres
	Flags     []string
	LinkFlags []string
	Env       []string
	Sysroot   string // the target's loader and libraries, for emulators
	Identity  string // changes when the compiler does
	Folder    string // where it was unpacked or installed; "" for one on PATH
}

// MissingError means that this machine has no compiler for a platform.
type MissingError struct {
	Platform platform.Platform
	What     string
	Mend     string
}

func (e *MissingError) Error() string {
	return fmt.Sprintf("%s: %s", e.What, e.Mend)
}

// NotFetchedError means that a toolchain's archive is not on this machine yet.
type NotFetchedError struct{ Name, From string }

func (e *NotFetchedError) Error() string {
	return fmt.Sprintf("[toolchain.%s] is still to be fetched from %s", e.Name, e.From)
}

// Finder answers for one project, and remembers what it was asked.
type Finder struct {
	Root     string // the project's folder
	Declared []*config.Toolchain
	Cache    string // folder that all projects of the user share; "" asks the system
	Events   progress.Sink

	mu    sync.Mutex
	known map[string]found
}

type found struct {
	compiler *Compiler
	err      error
}

// Find gives the compiler for a platform: the one of that name, or the first
// declared for the platform, or one that is known anyway. An archive is fetched
// only when fetch is set, else the error is a NotFetchedError.
func (f *Finder) Find(ctx context.Context, on platform.Platform, name string, fetch bool) (*Compiler, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	key := fmt.Sprintf("%s %s %v", on, name, fetch)
	if got, ok := f.known[key]; ok {
		return got.compiler, got.err
	}
	c, err := f.find(ctx, on, name, fetch)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if f.known == nil {
		f.known = map[string]found{}
	}
	f.known[key] = found{c, err}
	return c, err
}

func (f *Finder) find(ctx context.Context, on platform.Platform, name string, fetch bool) (*Compiler, error) {
	var c *Compiler
	var err error
	if t := f.declared(on, name); t != nil {
		c, err = f.fromDeclared(ctx, t, on, fetch)
	} else if name != "" {
		return nil, &MissingError{on, fmt.Sprintf("[toolchain.%s] does not have %s", name, on), "add the platform to its \"platforms\""}
	} else {
		c, err = fromSystem(on)
	}
	if err != nil {
		return nil, err
	}
	c.Identity, err = identity(ctx, c)
	return c, err
}

func (f *Finder) declared(on platform.Platform, name string) *config.Toolchain {
	for _, t := range f.Declared {
		if (name == "" || t.Name == name) && slices.Contains(t.Platforms.List, on) {
			return t
		}
	}
	return nil
}

func (f *Finder) fromDeclared(ctx context.Context, t *config.Toolchain, on platform.Platform, fetch bool) (*Compiler, error) {
	folder := t.Folder
	from := "[toolchain." + t.Name + "]"
	switch {
	case len(t.Archive) > 0:
		dir, err := f.unpacked(ctx, t, fetch)
		if err != nil {
			return nil, err
		}
		folder = filepath.Join(dir, filepath.FromSlash(t.Folder))
		from += ", archive " + t.SHA256[:8]
	case folder != "" && !filepath.IsAbs(folder):
		folder = filepath.Join(f.Root, filepath.FromSlash(folder))
	}
	c := &Compiler{Name: t.Name, From: from, Platform: on, Triplet: t.Triplet, Folder: folder, Tools: map[string]string{},
		Flags: append(variantFlags(on), t.Flags...), LinkFlags: t.LinkFlags}
	for tool, program := range gnuNames {
		path := t.Tools[tool]
		if path == "" && t.Triplet != "" {
			path = t.Triplet + "-" + program
			if folder != "" {
				path = "bin/" + path
			}
		}
		if path != "" {
			c.Tools[tool] = executable(folder, path)
		}
		if c.Tools[tool] == "" && (tool == "cc" || t.Tools[tool] != "") {
			return nil, &MissingError{on, fmt.Sprintf("%s has no %s: there is no program %s", from, tool, where(folder, path)), "correct \"folder\", \"triplet\" or \"tools\" in [toolchain." + t.Name + "], or install it"}
		}
	}
	if t.Sysroot != "" {
		c.Sysroot = t.Sysroot
		if !filepath.IsAbs(c.Sysroot) {
			c.Sysroot = filepath.Join(folder, filepath.FromSlash(c.Sysroot))
		}
	}
	for key, text := range t.Env {
		value, err := placeholder.Fill(text, placeholder.Values{"folder": folder})
		if err != nil {
			return nil, err
		}
		c.Env = append(c.Env, key+"="+value)
	}
	slices.Sort(c.Env)
	return c, nil
}

func where(folder, path string) string {
	if folder == "" {
		return path + " on PATH"
	}
	return filepath.Join(folder, filepath.FromSlash(path))
}

// gnuNames are the programs of a toolchain by their roles.
var gnuNames = map[string]string{"cc": "gcc", "cxx": "g++", "ar": "ar", "ranlib": "ranlib", "strip": "strip", "nm": "nm", "objcopy": "objcopy", "ld": "ld", "windres": "windres"}

// executable gives the absolute path of a program in a folder, or on PATH
// without one; "" when it is not there.
func executable(folder, path string) string {
	if folder == "" && !strings.ContainsAny(path, "/\\") {
		full, err := exec.LookPath(path)
		if err != nil {
			return ""
		}
		full, err = filepath.Abs(full)
		if err != nil {
			return ""
		}
		return full
	}
	full := filepath.Join(folder, filepath.FromSlash(path))
	if filepath.IsAbs(path) {
		full = path
	}
	if runtime.GOOS == "windows" && filepath.Ext(full) == "" {
		full += ".exe"
	}
	info, err := os.Stat(full)
	if err != nil || info.IsDir() || (runtime.GOOS != "windows" && info.Mode()&0o111 == 0) {
		return ""
	}
	return full
}

// Environment gives the variables by which builds learn of the tools.
func (c *Compiler) Environment() []string {
	var env []string
	for _, tool := range []string{"cc", "cxx", "ar", "ranlib", "strip", "nm", "objcopy", "ld", "windres"} {
		if path := c.Tools[tool]; path != "" {
			if strings.Contains(path, " ") {
				path = `"` + path + `"`
			}
			env = append(env, strings.ToUpper(tool)+"="+path)
		}
	}
	return append(env, c.Env...)
}

// Unavailable says whether an error means that there is no compiler, not that
// something went wrong.
func Unavailable(err error) bool {
	var missing *MissingError
	return errors.As(err, &missing) || errors.Is(err, fs.ErrNotExist)
}
