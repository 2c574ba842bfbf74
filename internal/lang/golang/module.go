package golang

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/mod/modfile"
	"golang.org/x/sync/singleflight"

	"piedmont/internal/make/inputs"
)

// modules takes digests over all that a compilation of a module could read, each
// once in a run.
type modules struct {
	inputs  *inputs.Inputs
	reading singleflight.Group // by folder
	known   sync.Map           // digests
}

// digest covers the module in dir and those beside it on the disk that its
// go.mod replaces others with, or that the workspace file uses ("" or "off"
// for none).
func (m *modules) digest(ctx context.Context, dir, workspace string) (string, error) {
	if d, ok := m.known.Load(dir); ok {
		return d.(string), nil
	}
	d, err, _ := m.reading.Do(dir, func() (any, error) {
		d, err := m.take(ctx, dir, workspace)
		if err == nil {
			m.known.Store(dir, d)
		}
		return d, err
	})
	if err != nil {
		return "", err
	}
	return d.(string), nil
}

func (m *modules) take(ctx context.Context, dir, workspace string) (string, error) {
	if workspace == "off" {
		workspace = ""
	}
	dirs := map[string]bool{dir: true}
	if workspace != "" {
		if err := localUses(workspace, dirs); err != nil {
			return "", err
		}
	}
	for d := range dirs {
		if err := localReplacements(d, dirs); err != nil {
			return "", err
		}
	}
	h := sha256.New()
	for _, d := range outermost(dirs) {
		if err := m.inputs.Folder(ctx, h, d, dir); err != nil {
			return "", fmt.Errorf("read the sources: %w", err)
		}
	}
	if workspace != "" {
		if err := m.inputs.Line(ctx, h, workspace, "workspace"); err != nil {
			return "", fmt.Errorf("read the workspace: %w", err)
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// errUnreadable means that a go.mod or go.work cannot be read: the Go tool will
// say why, or knows more than we do.
var errUnreadable = errors.New("a go.mod or go.work cannot be read")

func localReplacements(dir string, into map[string]bool) error {
	path := filepath.Join(dir, "go.mod")
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	f, err := modfile.Parse(path, data, nil)
	if err != nil {
		return errUnreadable
	}
	for _, r := range f.Replace {
		if modfile.IsDirectoryPath(r.New.Path) {
			into[absolute(dir, r.New.Path)] = true
		}
	}
	return nil
}

func localUses(workspace string, into map[string]bool) error {
	data, err := os.ReadFile(workspace)
	if err != nil {
		return err
	}
	f, err := modfile.ParseWork(workspace, data, nil)
	if err != nil {
		return errUnreadable
	}
	for _, u := range f.Use {
		into[absolute(filepath.Dir(workspace), u.Path)] = true
	}
	for _, r := range f.Replace {
		if modfile.IsDirectoryPath(r.New.Path) {
			into[absolute(filepath.Dir(workspace), r.New.Path)] = true
		}
	}
	return nil
}

func absolute(dir, path string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(dir, path)
}

// outermost drops folders that are inside of others, and sorts the rest.
func outermost(dirs map[string]bool) []string {
	var out []string
	for d := range dirs {
		inside := false
		for other := range dirs {
			if other != d && strings.HasPrefix(d, other+string(filepath.Separator)) {
				inside = true
			}
		}
		if !inside {
			out = append(out, d)
		}
	}
	slices.Sort(out)
	return out
}
