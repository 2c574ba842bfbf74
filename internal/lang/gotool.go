package lang

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"go/version"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/mod/modfile"

	"piedmont/internal/base/fileio"
)

// ErrNoGo means that programs are to be made and there is no Go toolchain.
var ErrNoGo = errors.New("the Go toolchain is not on PATH: install Go, or add its bin folder to PATH")

// GoTool is the Go toolchain as one project sees it.
type GoTool struct {
	Version  string            // such as go1.26.1
	Root     string            // GOROOT
	settings map[string]string // what "go env" says, of those below
}

// asked are the settings that a build depends on or is passed on.
var asked = []string{
	"GOVERSION", "GOROOT", "GOWORK", "GOMODCACHE", "GOCACHE", "GOPATH", "GOPROXY", "GONOPROXY", "GOPRIVATE",
	"GOSUMDB", "GONOSUMDB", "GOINSECURE", "GOAUTH", "GOVCS", "GOTOOLCHAIN", "GOTMPDIR", "GOEXPERIMENT", "CC", "CXX",
}

// Tools asks the toolchain about itself, once for each folder: an answer costs a
// process and does not change while one command runs. The zero value is ready.
type Tools struct {
	mu    sync.Mutex
	byDir map[string]*GoTool
}

// Find gives the toolchain of a module's folder, where a go.mod may select
// another version.
func (t *Tools) Find(ctx context.Context, dir string) (*GoTool, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	dir = filepath.Clean(dir)
	if g := t.byDir[dir]; g != nil {
		return g, nil
	}
	g, err := askGo(ctx, dir)
	if err != nil {
		return nil, err
	}
	if t.byDir == nil {
		t.byDir = map[string]*GoTool{}
	}
	t.byDir[dir] = g
	return g, nil
}

func askGo(ctx context.Context, dir string) (*GoTool, error) {
	if _, err := exec.LookPath("go"); err != nil {
		return nil, ErrNoGo
	}
	out, stderr, err := run(ctx, dir, os.Environ(), "go", append([]string{"env", "-json"}, asked...)...)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("go env in %s: %s", dir, firstOf(stderr, err.Error()))
	}
	t := &GoTool{settings: map[string]string{}}
	if err := json.Unmarshal([]byte(out), &t.settings); err != nil {
		return nil, fmt.Errorf("go env answered something else than JSON: %w", err)
	}
	t.Version, t.Root = t.settings["GOVERSION"], t.settings["GOROOT"]
	return t, nil
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t = strings.TrimSpace(t); t != "" {
			return t
		}
	}
	return ""
}

// env is the environment of a compilation. Nothing of the user's own Go
// settings that could change the result gets through; how modules are fetched does.
func (t *GoTool) env(extra ...string) []string {
	var env []string
	for _, kv := range os.Environ() {
		name, _, _ := strings.Cut(kv, "=")
		if strings.HasPrefix(name, "GO") || strings.HasPrefix(name, "CGO_") || name == "CC" || name == "CXX" {
			continue
		}
		env = append(env, kv)
	}
	for _, name := range asked {
		v := t.settings[name]
		if v == "" || slices.Contains([]string{"GOVERSION", "GOROOT", "CC", "CXX"}, name) {
			continue
		}
		env = append(env, name+"="+v)
	}
	return append(append(env, "GOENV=off", "GOFLAGS=-buildvcs=false"), extra...)
}

// Platforms lists what the toolchain can compile for, as os/arch. The answer is
// kept in the user's cache folder, for the list takes longer than all else.
func (t *Tools) Platforms(ctx context.Context, dir string) ([]string, error) {
	if _, err := os.Stat(dir); err != nil {
		dir = "."
	}
	g, err := t.Find(ctx, dir)
	if err != nil {
		return nil, err
	}
	file := ""
	if cache, err := os.UserCacheDir(); err == nil {
		name := strings.NewReplacer("/", "-", "\\", "-", ":", "-", " ", "-").Replace(g.Version + "-" + g.Root)
		file = filepath.Join(cache, "piedmont", "platforms-"+name)
		if data, err := os.ReadFile(file); err == nil && len(data) > 0 {
			return strings.Fields(string(data)), nil
		}
	}
	out, stderr, err := run(ctx, dir, g.env(), "go", "tool", "dist", "list")
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("go tool dist list: %s", firstOf(stderr, err.Error()))
	}
	list := strings.Fields(out)
	if file != "" && os.MkdirAll(filepath.Dir(file), 0o755) == nil {
		_ = fileio.Write(file, []byte(out), 0o644) // only a cache
	}
	return list, nil
}

// CheckModule says whether the toolchain is new enough for a module's go.mod.
func (g *GoTool) CheckModule(dir string) error {
	data, err := os.ReadFile(filepath.Join(dir, "go.mod"))
	if err != nil {
		return nil // without a go.mod, nothing is asked for
	}
	f, err := modfile.ParseLax("go.mod", data, nil)
	if err != nil || f.Go == nil {
		return nil // the Go tool says it better
	}
	if want := "go" + f.Go.Version; version.Compare(g.Version, want) < 0 {
		return fmt.Errorf("go.mod asks for %s, and the toolchain here is %s", want, g.Version)
	}
	return nil
}
