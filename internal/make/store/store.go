// Package store keeps what was made: files named by their SHA-256, and a record
// of which files came out of which work, so that the same work is not done again.
package store

import (
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"piedmont/internal/base/fileio"
)

// Object is one kept file.
type Object struct {
	Name   string `json:"name"` // the name that its maker gave it
	SHA256 string `json:"sha256"`
	SHA512 string `json:"sha512,omitempty"` // of what was made here; copies have none
	Size   int64  `json:"size"`
	// Stamp is the modification time of the kept file in nanoseconds; another
	// one means that somebody wrote into it.
	Stamp int64 `json:"stamp"`
	// Extra is what the maker wants to know again, such as what an archive holds.
	Extra json.RawMessage `json:"extra,omitempty"`
}

// Store is a folder; see Open.
type Store struct{ dir string }

// Open makes the folder where it is missing.
func Open(dir string) (*Store, error) {
	for _, sub := range []string{"objects", "made", "tmp"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return nil, fmt.Errorf("open the store: %w", err)
		}
	}
	return &Store{dir}, nil
}

// ClearTemporary removes what a killed run left; only the holder of the
// project's lock may call it.
func (s *Store) ClearTemporary() error {
	entries, err := os.ReadDir(filepath.Join(s.dir, "tmp"))
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := os.RemoveAll(filepath.Join(s.dir, "tmp", e.Name())); err != nil {
			return err
		}
	}
	return nil
}

// TempDir makes a folder for work in progress.
func (s *Store) TempDir() (string, error) { return os.MkdirTemp(filepath.Join(s.dir, "tmp"), "work-*") }

// Path is where an object's bytes are.
func (s *Store) Path(o Object) string {
	return filepath.Join(s.dir, "objects", o.SHA256[:2], o.SHA256[2:])
}

// Intact says whether an object is there and was not written into.
func (s *Store) Intact(o Object) bool {
	info, err := os.Stat(s.Path(o))
	return err == nil && info.Size() == o.Size && info.ModTime().UnixNano() == o.Stamp
}

// Writer makes one object; its digests are taken as it is written.
type Writer struct {
	store  *Store
	file   *os.File
	name   string
	sha256 hash.Hash
	sha512 hash.Hash // nil where nobody asks for it
	size   int64
}

// Create begins an object. It must end with Commit or Abort.
func (s *Store) Create(name string) (*Writer, error) {
	f, err := os.CreateTemp(filepath.Join(s.dir, "tmp"), "new-*")
	if err != nil {
		return nil, fmt.Errorf("write into the store: %w", err)
	}
	return &Writer{s, f, name, sha256.New(), sha512.New(), 0}, nil
}

// worthwhile is how many bytes are worth goroutines of their own.
const worthwhile = 32 << 10

// Write writes and takes the digests, of larger pieces side by side: those take
// longer than all else that happens to the bytes.
func (w *Writer) Write(p []byte) (int, error) {
	switch {
	case w.sha512 == nil:
		w.sha256.Write(p)
	case len(p) < worthwhile:
		w.sha256.Write(p)
		w.sha512.Write(p)
	default:
		var taken sync.WaitGroup
		taken.Go(func() { w.sha256.Write(p) })
		taken.Go(func() { w.sha512.Write(p) })
		defer taken.Wait()
	}
	n, err := w.file.Write(p)
	w.size += int64(n)
	return n, err // after an error there is only Abort
}

// Abort drops the object; after Commit it does nothing.
func (w *Writer) Abort() {
	_ = w.file.Close()
	_ = os.Remove(w.file.Name())
}

// Commit puts the object into the store.
func (w *Writer) Commit(ctx context.Context) (Object, error) {
	err := w.file.Chmod(0o644)
	if err == nil {
		err = w.file.Sync()
	}
	if closeErr := w.file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return Object{}, fmt.Errorf("write %s into the store: %w", w.name, err)
	}
	o := Object{Name: w.name, SHA256: hex.EncodeToString(w.sha256.Sum(nil)), Size: w.size}
	if w.sha512 != nil {
		o.SHA512 = hex.EncodeToString(w.sha512.Sum(nil))
	}
	return w.store.keep(ctx, w.file.Name(), o)
}

// Copy puts a copy of a file into the store. The others see its bytes too, in
// the one read that there is.
func (s *Store) Copy(ctx context.Context, path, name string, others ...io.Writer) (Object, error) {
	f, err := os.Open(path)
	if err != nil {
		return Object{}, err
	}
	defer func() { _ = f.Close() }()
	w, err := s.Create(name)
	if err != nil {
		return Object{}, err
	}
	defer w.Abort()
	w.sha512 = nil // a copy is packed, and not released as it is
	all := io.MultiWriter(append([]io.Writer{w}, others...)...)
	if _, err := io.CopyBuffer(onlyWriter{all}, fileio.Reader(ctx, f), make([]byte, 256<<10)); err != nil {
		return Object{}, fmt.Errorf("write %s into the store: %w", name, err)
	}
	return w.Commit(ctx)
}

// onlyWriter hides the shortcuts of a writer, so that the copy uses its buffer.
type onlyWriter struct{ io.Writer }

// keep renames a finished file into its place. An object that is there already
// stays if its bytes are right, since other records know it.
func (s *Store) keep(ctx context.Context, tmp string, o Object) (Object, error) {
	place := s.Path(o)
	if have, err := fileio.SHA256(ctx, place); err == nil && have == o.SHA256 {
		_ = os.Remove(tmp)
	} else {
		if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
			return Object{}, fmt.Errorf("write into the store: %w", err)
		}
		if err := os.Rename(tmp, place); err != nil {
			return Object{}, fmt.Errorf("write into the store: %w", err)
		}
	}
	info, err := os.Stat(place)
	if err != nil {
		return Object{}, err
	}
	o.Stamp = info.ModTime().UnixNano()
	return o, nil
}

// Recall gives what work with this key made, if all of it is still intact.
func (s *Store) Recall(key string) ([]Object, bool) {
	path := s.record(key)
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, false
	}
	var objects []Object
	if json.Unmarshal(data, &objects) != nil {
		return nil, false
	}
	for _, o := range objects {
		if len(o.SHA256) != 64 || !s.Intact(o) {
			return nil, false
		}
	}
	if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
		_ = os.Chtimes(path, time.Time{}, time.Now()) // in use: Prune keeps it
	}
	return objects, true
}

// Remember records what work with this key made.
func (s *Store) Remember(key string, objects []Object) error {
	data, err := json.Marshal(objects)
	if err != nil {
		return err
	}
	return fileio.Write(s.record(key), data, 0o644)
}

func (s *Store) record(key string) string {
	sum := sha256.Sum256([]byte(key))
	return filepath.Join(s.dir, "made", hex.EncodeToString(sum[:])+".json")
}

// CompressedDir is a folder of the store for compressed bytes of its objects, each
// with a record beside it, NAME.json, whose time is that of its last use.
const CompressedDir = "compressed"

// compressedAge is how long unused compressed bytes stay at most: they are large,
// and soon made again.
const compressedAge = 7 * 24 * time.Hour

// pruneCompressed removes what was not used during keep, and what a killed run left.
func (s *Store) pruneCompressed(keep time.Duration, now time.Time) error {
	dir := filepath.Join(s.dir, CompressedDir)
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		used := path
		if filepath.Ext(path) != ".json" {
			if _, err := os.Stat(path + ".json"); err == nil {
				used = path + ".json"
			}
		}
		if info, err := os.Stat(used); err == nil && now.Sub(info.ModTime()) > keep {
			_ = os.Remove(path)
		}
	}
	return nil
}

// Prune forgets work that was not asked for during keep, and removes the
// objects that no record names any more. It looks at most once a day.
func (s *Store) Prune(keep time.Duration, now time.Time) error {
	last := filepath.Join(s.dir, "pruned")
	if info, err := os.Stat(last); err == nil && now.Sub(info.ModTime()) < 24*time.Hour {
		return nil
	}
	named := map[string]bool{}
	records, err := os.ReadDir(filepath.Join(s.dir, "made"))
	if err != nil {
		return err
	}
	for _, r := range records {
		path := filepath.Join(s.dir, "made", r.Name())
		if info, err := r.Info(); err == nil && now.Sub(info.ModTime()) > keep {
			_ = os.Remove(path)
			continue
		}
		var objects []Object
		if data, err := os.ReadFile(path); err == nil && json.Unmarshal(data, &objects) == nil {
			for _, o := range objects {
				named[o.SHA256] = true
			}
		}
	}
	root := filepath.Join(s.dir, "objects")
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		// A young object may belong to a record that is still to be written.
		if !named[filepath.Base(filepath.Dir(path))+d.Name()] && now.Sub(info.ModTime()) > keep {
			return os.Remove(path)
		}
		return nil
	})
	if err == nil {
		err = s.pruneCompressed(min(keep, compressedAge), now)
	}
	if err != nil {
		return err
	}
	return os.WriteFile(last, nil, 0o644)
}
