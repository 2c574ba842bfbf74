// Package inputs takes the digests of files that a result depends on. Digests of
// files that did not change since the last run are remembered, so that a run in
// which nothing changed reads no file.
package inputs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"piedmont/internal/base/fileio"
)

// Inputs remembers; see New.
type Inputs struct {
	memo    string          // the file with what is remembered
	skip    map[string]bool // folders that are made by Piedmont itself
	started time.Time
	reads   singleflight.Group // by path: a file is read by one at a time

	mu    sync.Mutex      // guards what follows; nothing is read while it is held
	known map[string]seen // by path, of earlier runs
	fresh map[string]seen // for the next run
	read  map[string]seen // in this run
}

type seen struct {
	Size   int64  `json:"s"`
	Time   int64  `json:"t"` // modification, nanoseconds
	SHA256 string `json:"h"`
}

// New reads what memo remembers; skip are folders to pass over.
func New(memo string, skip ...string) *Inputs {
	in := &Inputs{memo: memo, skip: map[string]bool{}, known: map[string]seen{}, fresh: map[string]seen{},
		read: map[string]seen{}, started: time.Now()}
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

// File gives the SHA-256, in hex, and the size of one file, from memory where it
// can.
func (in *Inputs) File(ctx context.Context, path string) (sha256 string, size int64, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", 0, err
	}
	s, err := in.digest(ctx, path, info)
	return s.SHA256, s.Size, err
}

// Folder writes a line for each file below a folder to w, under names as seen from
// another, so that they do not depend on where the project is.
func (in *Inputs) Folder(ctx context.Context, w io.Writer, dir, from string) error {
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
		return in.Line(ctx, w, path, name)
	})
}

// Line writes the line of one file to w.
func (in *Inputs) Line(ctx context.Context, w io.Writer, path, name string) error {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		_, err = fmt.Fprintf(w, "%q gone\n", name) // a broken link, or removed just now
		return err
	}
	if err != nil || !info.Mode().IsRegular() {
		return err
	}
	s, err := in.digest(ctx, path, info)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "%q %s %v\n", name, s.SHA256, info.Mode()&0o100 != 0)
	return err
}

// digest reads a file, unless that was done already and it did not change.
func (in *Inputs) digest(ctx context.Context, path string, info fs.FileInfo) (seen, error) {
	s := seen{Size: info.Size(), Time: info.ModTime().UnixNano()}
	in.mu.Lock()
	for _, before := range []map[string]seen{in.read, in.known} {
		if k := before[path]; s.SHA256 == "" && k.Size == s.Size && k.Time == s.Time {
			s.SHA256 = k.SHA256
		}
	}
	in.mu.Unlock()
	if s.SHA256 == "" {
		sum, err, _ := in.reads.Do(fmt.Sprint(path, s.Size, s.Time),
			func() (any, error) { return fileio.SHA256(ctx, path) })
		if err != nil {
			return s, err
		}
		s.SHA256 = sum.(string)
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	in.read[path] = s
	// A file written just now could be written again within the same tick of
	// the clock, so the next run does not rely on it.
	if in.started.Sub(info.ModTime()) > 2*time.Second {
		in.fresh[path] = s
	}
	return s, nil
}
