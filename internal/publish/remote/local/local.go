// Package local is a store of files in a folder of this machine.
package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"piedmont/internal/base/fileio"
	"piedmont/internal/publish/remote"
	"piedmont/internal/release"
)

// FS is a folder. Work is a folder in it for what is being written; nobody looks
// for anything there.
type FS struct{ Dir, Work string }

func (f FS) path(name string) string { return filepath.Join(f.Dir, filepath.FromSlash(name)) }

// Stat looks at a file or folder.
func (f FS) Stat(_ context.Context, name string) (remote.Info, error) {
	info, err := os.Stat(f.path(name))
	if err != nil {
		return remote.Info{}, err
	}
	return infoOf(info), nil
}

func infoOf(i fs.FileInfo) remote.Info {
	return remote.Info{Name: i.Name(), Size: i.Size(), Modified: i.ModTime(), Dir: i.IsDir()}
}

// Open opens a file at an offset.
func (f FS) Open(ctx context.Context, name string, from int64) (io.ReadCloser, error) {
	file, err := os.Open(f.path(name))
	if err != nil {
		return nil, err
	}
	if _, err := file.Seek(from, io.SeekStart); err != nil {
		_ = file.Close()
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{fileio.Reader(ctx, file), file}, nil
}

// Put writes a file from an offset on, and flushes it when r has ended.
func (f FS) Put(ctx context.Context, name string, from int64, r io.Reader) (release.Receipt, error) {
	path := f.path(name)
	flags := os.O_WRONLY | os.O_CREATE
	if from == 0 {
		flags |= os.O_TRUNC
	}
	file, err := os.OpenFile(path, flags, 0o644)
	if err != nil {
		return release.Receipt{}, err
	}
	defer func() { _ = file.Close() }()
	if _, err := file.Seek(from, io.SeekStart); err != nil {
		return release.Receipt{}, err
	}
	n, err := io.CopyBuffer(struct{ io.Writer }{file}, fileio.Reader(ctx, r), make([]byte, 512<<10))
	out := release.Receipt{Name: name, Received: from + n}
	if err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	return out, err
}

// Remove removes a file, or a folder with all in it.
func (f FS) Remove(_ context.Context, name string) error { return os.RemoveAll(f.path(name)) }

// List names what is in a folder.
func (f FS) List(_ context.Context, dir string) ([]remote.Info, error) {
	entries, err := os.ReadDir(f.path(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []remote.Info
	for _, e := range entries {
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, infoOf(info))
	}
	return out, err
}

// Rename gives a file or folder another name, when all that is in it is on the
// disk.
func (f FS) Rename(_ context.Context, from, to string) error {
	source, target := f.path(from), f.path(to)
	if info, err := os.Stat(source); err != nil {
		return err
	} else if info.IsDir() {
		if err := fileio.SyncDir(source); err != nil {
			return err
		}
	}
	if err := os.Rename(source, target); err != nil {
		if _, statErr := os.Stat(target); statErr == nil {
			return errors.Join(fs.ErrExist, err)
		}
		return err
	}
	return fileio.SyncDir(filepath.Dir(target))
}

// Replace puts a small file in one step. Its beginning is in the folder for work,
// where a killed run leaves nothing that anybody sees.
func (f FS) Replace(_ context.Context, name string, data []byte) error {
	if err := os.MkdirAll(f.path(f.Work), 0o755); err != nil {
		return err
	}
	return fileio.WriteBy(f.path(f.Work), f.path(name), data, 0o644)
}

// MakeFolder makes a folder and those above it.
func (f FS) MakeFolder(_ context.Context, dir string) error { return os.MkdirAll(f.path(dir), 0o755) }

// Faithful says that what was written is there.
func (FS) Faithful() {}

// Lock waits until nobody else publishes into the folder.
func (f FS) Lock(ctx context.Context) (func() error, error) {
	work := f.path(f.Work)
	if err := os.MkdirAll(work, 0o755); err != nil {
		return nil, fmt.Errorf("the folder must be writable: %w", err)
	}
	l := flock.New(filepath.Join(work, "lock"))
	if _, err := l.TryLockContext(ctx, 50*time.Millisecond); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("lock the folder: %w", err)
	}
	return l.Unlock, nil
}

// Point makes a symbolic link to a folder, or replaces one, by rename.
func (f FS) Point(_ context.Context, name, folder string) error {
	place := f.path(name)
	if have, err := os.Readlink(place); err == nil && have == folder {
		return nil
	}
	tmp := filepath.Join(f.path(f.Work), "new-"+name)
	_ = os.Remove(tmp)
	if err := os.Symlink(folder, tmp); err != nil {
		return errors.Join(errors.ErrUnsupported, err)
	}
	return os.Rename(tmp, place)
}
