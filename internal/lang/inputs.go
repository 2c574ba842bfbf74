package lang

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/mod/modfile"

	"piedmont/internal/base/fileio"
)

// Inputs takes the digest of every file that a compilation could read. Digests
// of files that did not change since the last run are remembered, so that a
// run in which nothing changed reads no file.
type Inputs struct {
	memo    string          // the file with what is remembered
	skip    map[string]bool // folders that are made by Piedmont itself
	mu      sync.Mutex
	known   map[string]seen   // by path, of earlier runs
	fresh   map[string]seen   // for the next run
	read    map[string]seen   // in this run
	digests map[string]string // by module folder, for this run
	started time.Time
}

type seen struct {
	Size   int64  `json:"s"`
	Time   int64  `json:"t"` // modification, nanoseconds
	SHA256 string `json:"h"`
}

// NewInputs reads what memo remembers; skip are folders to pass over.
func NewInputs(memo string, skip ...string) *Inputs {
	in := &Inputs{memo: memo, skip: map[string]bool{}, known: map[string]seen{}, fresh: map[string]seen{}, read: map[string]seen{}, digests: map[string]string{}, started: time.Now()}
	for _, dir := range skip {
		in.skip[dir] = true
	}
	if data, err := os.ReadFile(memo); err == nil {
		_ = json.Unmarshal(data, &in.known) // a damaged memory is an empty one
	}
	return in
}

// Save keeps what was learned for the next run.
func (in *Inputs) Save() error {
	in.mu.Lock()
	defer in.mu.Unlock()
	if len(in.fresh) == len(in.known) {
		same := true
		for path, s := range in.fresh {
			same = same && in.known[path] == s
		}
		if same {
			return nil
		}
	}
	data, err := json.Marshal(in.fresh)
	if err != nil {
		return err
	}
	return fileio.Write(in.memo, data, 0o644)
}

// Digest covers the module in dir and those beside it on the disk that its
// go.mod replaces others with, or that the workspace file uses ("" or "off"
// for none).
func (in *Inputs) Digest(ctx context.Context, dir, workspace string) (string, error) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if d, ok := in.digests[dir]; ok {
		return d, nil
	}
	dirs := map[string]bool{dir: true}
	if workspace != "" && workspace != "off" {
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
		if err := in.folder(ctx, h, d, dir); err != nil {
			return "", fmt.Errorf("read the sources: %w", err)
		}
	}
	if workspace != "" && workspace != "off" {
		if err := in.one(ctx, h, workspace, "workspace"); err != nil {
			return "", fmt.Errorf("read the workspace: %w", err)
		}
	}
	in.digests[dir] = hex.EncodeToString(h.Sum(nil))
	return in.digests[dir], nil
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

func (in *Inputs) folder(ctx context.Context, h io.Writer, dir, from string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if d.Name() == ".git" || in.skip[path] {
				return filepath.SkipDir
			}
			return nil
		}
		name, err := filepath.Rel(from, path)
		if err != nil {
			name = path
		}
		return in.one(ctx, h, path, name)
	})
}

// one adds a file under a name that does not depend on where the project is.
func (in *Inputs) one(ctx context.Context, h io.Writer, path, name string) error {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		_, err = fmt.Fprintf(h, "%q gone\n", name) // a broken link, or removed just now
		return err
	}
	if err != nil || !info.Mode().IsRegular() {
		return err
	}
	s, err := in.digest(ctx, path, info)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(h, "%q %s %v\n", name, s.SHA256, info.Mode()&0o100 != 0)
	return err
}

// digest reads a file, unless that was done already and it did not change.
func (in *Inputs) digest(ctx context.Context, path string, info fs.FileInfo) (seen, error) {
	s := seen{Size: info.Size(), Time: info.ModTime().UnixNano()}
	for _, before := range []map[string]seen{in.read, in.known} {
		if k := before[path]; s.SHA256 == "" && k.Size == s.Size && k.Time == s.Time {
			s.SHA256 = k.SHA256
		}
	}
	if s.SHA256 == "" {
		var err error
		if s.SHA256, err = fileio.SHA256(ctx, path); err != nil {
			return s, err
		}
		in.read[path] = s
	}
	// A file written just now could be written again within the same tick of
	// the clock, so the next run does not rely on it.
	if in.started.Sub(info.ModTime()) > 2*time.Second {
		in.fresh[path] = s
	}
	return s, nil
}

// File gives the digest and size of one file, from memory where it can.
func (in *Inputs) File(ctx context.Context, path string) (sha256 string, size int64, err error) {
	in.mu.Lock()
	defer in.mu.Unlock()
	info, err := os.Stat(path)
	if err != nil {
		return "", 0, err
	}
	s, err := in.digest(ctx, path, info)
	return s.SHA256, s.Size, err
}
