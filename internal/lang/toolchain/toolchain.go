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

	"golang.org/x/sync/singleflight"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
	"piedmont/internal/base/progress"
	"piedmont/internal/format/archive"
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

// ErrMissing is in the chain of errors that mean that this machine has no compiler
// for a platform.
var ErrMissing = errors.New("no compiler")

// Missing is such an error.
func Missing(what, fix string) error { return &fault.Error{What: what, Fix: fix, Err: ErrMissing} }

// NotFetchedError means that a toolchain's archive is not on this machine yet.
type NotFetchedError struct{ Name, From string }

func (e *NotFetchedError) Error() string {
	return fmt.Sprintf("[toolchain.%s] is still to be fetched from %s", e.Name, e.From)
}

// Finder answers for one project, and remembers what it was asked.
type Finder struct {
	Root     string // the project's folder
	Declared []*Keys
	Cache    string // folder that all projects of the user share; "" asks the environment
	Env      environ.Env
	Readers  []archive.Reader // of archives that hold toolchains
	Events   progress.Sink

	asking singleflight.Group // by what is asked; an archive is fetched meanwhile
	known  sync.Map           // answers
}

// Options say which compiler is meant.
type Options struct {
	Name  string // of the [toolchain.NAME]; "" takes the first that has the platform
	Fetch bool   // bring an archive that is not here; else the error is a NotFetchedError
}

type answer struct {
	compiler *Compiler
	err      error
}

// Find gives the compiler for a platform: the one that is named, or the first
// declared for the platform, or one that is known anyway.
func (f *Finder) Find(ctx context.Context, on platform.Platform, o Options) (*Compiler, error) {
	key := fmt.Sprintf("%s %s %v", on, o.Name, o.Fetch)
	if got, ok := f.known.Load(key); ok {
		return got.(answer).compiler, got.(answer).err
	}
	got, err, _ := f.asking.Do(key, func() (any, error) {
		c, err := f.find(ctx, on, o)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		f.known.Store(key, answer{c, err})
		return answer{c, err}, nil
	})
	if err != nil {
		return nil, err
	}
	return got.(answer).compiler, got.(answer).err
}

func (f *Finder) find(ctx context.Context, on platform.Platform, o Options) (*Compiler, error) {
	var c *Compiler
	var err error
	if t := f.declared(on, o.Name); t != nil {
		c, err = f.fromDeclared(ctx, t, on, o.Fetch)
	} else if o.Name != "" {
		return nil, Missing(fmt.Sprintf("[toolchain.%s] does not have %s", o.Name, on),
			"add the platform to its \"platforms\"")
	} else {
		c, err = fromSystem(on)
	}
	if err != nil {
		return nil, err
	}
	c.Identity, err = identity(ctx, f.Env, c)
	return c, err
}

func (f *Finder) declared(on platform.Platform, name string) *Keys {
	for _, t := range f.Declared {
		if (name == "" || t.Name == name) && slices.Contains(t.Platforms.List, on) {
			return t
		}
	}
	return nil
}

func (f *Finder) fromDeclared(ctx context.Context, t *Keys, on platform.Platform, fetch bool) (*Compiler, error) {
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
	c := &Compiler{Name: t.Name, From: from, Platform: on, Triplet: t.Triplet, Folder: folder,
		Tools: map[string]string{},
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
			return nil, Missing(fmt.Sprintf("%s has no %s: there is no program %s", from, tool, where(folder, path)),
				"correct \"folder\", \"triplet\" or \"tools\" in [toolchain."+t.Name+"], or install it")
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
var gnuNames = map[string]string{"cc": "gcc", "cxx": "g++", "ar": "ar", "ranlib": "ranlib", "strip": "strip",
	"nm": "nm", "objcopy": "objcopy", "ld": "ld", "windres": "windres"}

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
	for _, tool := range toolNames {
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
	return errors.Is(err, ErrMissing) || errors.Is(err, fs.ErrNotExist)
}
