// Package remote is a store of files that may be far away: all that a layout of
// releases needs of one. Each kind of store is a package below this one.
package remote

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"time"

	"piedmont/internal/release"
)

// FS is a store of files. Names are paths with forward slashes, relative to its
// root. What is not there is fs.ErrNotExist; an error that may pass is an
// httpx.TemporaryError.
type FS interface {
	Stat(ctx context.Context, name string) (Info, error)
	// Open gives a file's content from an offset on.
	Open(ctx context.Context, name string, from int64) (io.ReadCloser, error)
	// Put writes a file from an offset on, which is 0 or where its bytes end. What
	// arrived before r fails is kept where the
	// store can, so that a later Put goes on there.
	Put(ctx context.Context, name string, from int64, r io.Reader) (release.Receipt, error)
	// Remove removes a file, or a folder with all in it; nothing is no error.
	Remove(ctx context.Context, name string) error
	// List names what is in a folder; one that is not there is empty.
	List(ctx context.Context, dir string) ([]Info, error)
}

// Info is what a store says of a file or folder.
type Info struct {
	Name     string // without its folder
	Size     int64
	Modified time.Time
	Dir      bool
}

// Renamer is a store that gives a file or folder another name in one step, and
// refuses with fs.ErrExist where a folder has it already.
type Renamer interface {
	Rename(ctx context.Context, from, to string) error
}

// Replacer is a store that puts a small file in the place of another in one step
// for every reader.
type Replacer interface {
	Replace(ctx context.Context, name string, data []byte) error
}

// Folders is a store in which a folder must be there before what is in it.
type Folders interface {
	MakeFolder(ctx context.Context, dir string) error
}

// Faithful is a store that keeps exactly what it was given, or fails, as a disk
// does: nothing is read back.
type Faithful interface{ Faithful() }

// Locker is a store that only one publisher at a time may change.
type Locker interface {
	Lock(ctx context.Context) (unlock func() error, err error)
}

// Pointer is a store in which one name can lead to a folder.
type Pointer interface {
	Point(ctx context.Context, name, folder string) error
}

// MakeFolder makes a folder where that must be done.
func MakeFolder(ctx context.Context, s FS, dir string) error {
	if f, ok := s.(Folders); ok {
		return f.MakeFolder(ctx, dir)
	}
	return nil
}

// Write puts a small file, in one step where the store can.
func Write(ctx context.Context, s FS, name string, data []byte) error {
	if r, ok := s.(Replacer); ok {
		return r.Replace(ctx, name, data)
	}
	_, err := s.Put(ctx, name, 0, bytes.NewReader(data))
	return err
}

// Read reads a file of at most so many bytes.
func Read(ctx context.Context, s FS, name string, most int64) ([]byte, error) {
	r, err := s.Open(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	data, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(data)) > most {
		err = &fs.PathError{Op: "read", Path: name, Err: errTooLarge}
	}
	return data, err
}

var errTooLarge = errors.New("it is larger than such a file can be")
