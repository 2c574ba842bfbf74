// Package environ is the environment that one run sees. It is a value, not that
// of the process, so that several runs in one process may differ in it.
package environ

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Env is a list of NAME=value; where a name comes twice, the last one counts.
// The nil Env is the environment of the process.
type Env []string

// List is all of it, for a program that is started.
func (e Env) List() []string {
	if e == nil {
		return os.Environ()
	}
	return slices.Clone(e)
}

// Lookup gives a variable, and whether it is set.
func (e Env) Lookup(name string) (string, bool) {
	if e == nil {
		return os.LookupEnv(name)
	}
	for _, kv := range slices.Backward(e) {
		if value, ok := strings.CutPrefix(kv, name+"="); ok {
			return value, true
		}
	}
	return "", false
}

// Get gives a variable, "" when it is not set.
func (e Env) Get(name string) string {
	value, _ := e.Lookup(name)
	return value
}

// With is the environment with more variables, or others of these names.
func (e Env) With(more ...string) Env { return append(e.List(), more...) }

// Cache is the folder for what Piedmont keeps for all projects of the user.
func (e Env) Cache() (string, error) {
	if e == nil {
		dir, err := os.UserCacheDir()
		return filepath.Join(dir, "piedmont"), err
	}
	// As os.UserCacheDir finds it, where variables decide.
	if dir := e.Get("XDG_CACHE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "piedmont"), nil
	}
	if home := e.Get("HOME"); home != "" && filepath.Separator == '/' {
		if _, err := os.Stat(filepath.Join(home, "Library", "Caches")); err == nil {
			return filepath.Join(home, "Library", "Caches", "piedmont"), nil
		}
		return filepath.Join(home, ".cache", "piedmont"), nil
	}
	if dir := e.Get("LocalAppData"); dir != "" {
		return filepath.Join(dir, "piedmont"), nil
	}
	return "", errors.New("the environment names no home folder: set HOME")
}

// Home is the user's own folder, "" when it is not known.
func (e Env) Home() string {
	if e == nil {
		home, _ := os.UserHomeDir()
		return home
	}
	for _, name := range []string{"HOME", "USERPROFILE"} {
		if home := e.Get(name); home != "" {
			return home
		}
	}
	return ""
}
