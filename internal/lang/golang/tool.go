package golang

import (
	"context"
	"encoding/json"
	"fmt"
	"go/version"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/mod/modfile"
	"golang.org/x/sync/singleflight"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
	"piedmont/internal/base/fileio"
	"piedmont/internal/lang"
)

// ErrNoGo means that programs are to be made and there is no Go toolchain.
var ErrNoGo = fault.Misuse("the Go toolchain is not on PATH", "install Go, or add its bin folder to PATH")

// Tool is the Go toolchain as one project sees it.
type Tool struct {
	Version  string // such as go1.26.1
	Root     string // GOROOT
	env      environ.Env
	settings map[string]string // what "go env" says, of those below
}

// asked are the settings that a build depends on or is passed on.
var asked = []string{
	"GOVERSION", "GOROOT", "GOWORK", "GOMODCACHE", "GOCACHE", "GOPATH", "GOPROXY", "GONOPROXY", "GOPRIVATE",
	"GOSUMDB", "GONOSUMDB", "GOINSECURE", "GOAUTH", "GOVCS", "GOTOOLCHAIN", "GOTMPDIR", "GOEXPERIMENT", "CC", "CXX",
}

// Tools asks the toolchain about itself, once for each folder: an answer costs a
// process and does not change while one command runs.
type Tools struct {
	Env environ.Env

	asking singleflight.Group // by folder
	byDir  sync.Map           // *Tool
}

// Find gives the toolchain of a module's folder, where a go.mod may select
// another version.
func (t *Tools) Find(ctx context.Context, dir string) (*Tool, error) {
	dir = filepath.Clean(dir)
	if g, ok := t.byDir.Load(dir); ok {
		return g.(*Tool), nil
	}
	g, err, _ := t.asking.Do(dir, func() (any, error) {
		g, err := ask(ctx, t.Env, dir)
		if err == nil {
			t.byDir.Store(dir, g)
		}
		return g, err
	})
	if err != nil {
		return nil, err
	}
	return g.(*Tool), nil
}

func ask(ctx context.Context, env environ.Env, dir string) (*Tool, error) {
	if _, err := exec.LookPath("go"); err != nil {
		return nil, ErrNoGo
	}
	out, stderr, err := lang.Run(ctx, dir, env.List(), "go", append([]string{"env", "-json"}, asked...)...)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("go env in %s: %s", dir, lang.FirstOf(stderr, err.Error()))
	}
	t := &Tool{env: env, settings: map[string]string{}}
	if err := json.Unmarshal([]byte(out), &t.settings); err != nil {
		return nil, fmt.Errorf("go env answered something else than JSON: %w", err)
	}
	t.Version, t.Root = t.settings["GOVERSION"], t.settings["GOROOT"]
	return t, nil
}

// harmless are settings of every Go program that change how it runs, and not what
// the toolchain makes.
var harmless = []string{"GOGC", "GOMEMLIMIT", "GOMAXPROCS"}

// relaxed has the compiler and the linker collect garbage less often than they
// would: linking takes a tenth less time and some more memory.
const relaxed = "GOGC=200"

// environ is the environment of a compilation. Nothing of the user's own Go
// settings that could change the result gets through; how modules are fetched does.
func (t *Tool) environ(extra ...string) []string {
	var env []string
	for _, kv := range t.env.List() {
		name, _, _ := strings.Cut(kv, "=")
		if strings.HasPrefix(name, "GO") && !slices.Contains(harmless, name) ||
			strings.HasPrefix(name, "CGO_") || name == "CC" || name == "CXX" {
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
	if _, chosen := t.env.Lookup("GOGC"); !chosen {
		env = append(env, relaxed)
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
	if cache, err := t.Env.Cache(); err == nil {
		name := strings.NewReplacer("/", "-", "\\", "-", ":", "-", " ", "-").Replace(g.Version + "-" + g.Root)
		file = filepath.Join(cache, "platforms-"+name)
		if data, err := os.ReadFile(file); err == nil && len(data) > 0 {
			return strings.Fields(string(data)), nil
		}
	}
	out, stderr, err := lang.Run(ctx, dir, g.environ(), "go", "tool", "dist", "list")
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("go tool dist list: %s", lang.FirstOf(stderr, err.Error()))
	}
	list := strings.Fields(out)
	if file != "" && os.MkdirAll(filepath.Dir(file), 0o755) == nil {
		_ = fileio.Write(file, []byte(out), 0o644) // only a cache
	}
	return list, nil
}

// CheckModule says whether the toolchain is new enough for a module's go.mod.
func (g *Tool) CheckModule(dir string) error {
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
