// Package fileio is what Piedmont asks of files beyond what the system's own
// calls do: they appear whole (written under another name, flushed to the disk,
// then renamed), long reads and writes stop when a context ends, and digests are
// taken as a file is read.
package fileio

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// Write puts data at path, in one step for every reader.
func Write(path string, data []byte, mode os.FileMode) error {
	return write(filepath.Dir(path), ".new-*", path, data, mode)
}

// WriteBy does the same by way of a file in another folder of the same file system.
func WriteBy(dir, path string, data []byte, mode os.FileMode) error {
	return write(dir, "new-*", path, data, mode)
}

func write(dir, pattern, path string, data []byte, mode os.FileMode) error {
	tmp, err := os.CreateTemp(dir, pattern)
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return finish(tmp, path, data, mode)
}

func finish(tmp *os.File, path string, data []byte, mode os.FileMode) error {
	defer func() { _ = os.Remove(tmp.Name()) }()
	_, err := tmp.Write(data)
	if err == nil {
		err = tmp.Chmod(mode)
	}
	if err == nil {
		err = tmp.Sync()
	}
	if closeErr := tmp.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Rename(tmp.Name(), path)
	}
	if err == nil {
		err = SyncDir(filepath.Dir(path))
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}

// SyncDir flushes a folder, so that the names in it survive a power cut.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer func() { _ = d.Close() }()
	return ignoreUnsupported(d.Sync())
}

// Link puts the content of from at path, sharing its blocks where the file
// system can; path must not exist.
func Link(from, path string) error {
	if os.Link(from, path) == nil {
		return nil
	}
	return Copy(from, path)
}

// Copy copies a file and flushes it; path must not exist.
func Copy(from, path string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Sync()
	}
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		_ = os.Remove(path)
	}
	return err
}

// ReplaceDir puts the folder from in the place of to. Where the system can
// exchange two folders in one step, no reader ever misses it; elsewhere there
// is an instant without it, but never a part of it. trash is a folder on the
// same file system for what was there before.
func ReplaceDir(from, to, trash string) error {
	if err := os.Rename(from, to); err == nil {
		return SyncDir(filepath.Dir(to))
	}
	if err := exchange(from, to); err == nil {
		_ = os.RemoveAll(from)
		return SyncDir(filepath.Dir(to))
	}
	old, err := os.MkdirTemp(trash, "old-*")
	if err != nil {
		return err
	}
	if err := os.Rename(to, filepath.Join(old, "it")); err != nil && !os.IsNotExist(err) {
		return err
	}
	if err := os.Rename(from, to); err != nil {
		_ = os.Rename(filepath.Join(old, "it"), to)
		return err
	}
	_ = os.RemoveAll(old)
	return SyncDir(filepath.Dir(to))
}
