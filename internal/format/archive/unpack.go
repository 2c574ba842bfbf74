package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"
)

// Unpacker puts what an archive holds into a folder, and nothing anywhere else:
// the system itself keeps every name below the folder, also through links.
type Unpacker struct {
	// Drop is how many leading folders of the paths are left out; what has no
	// more than those is passed over.
	Drop int
	// Most bounds the bytes that come out, 0 for no bound.
	Most int64

	root *os.Root
	left int64
}

// Unpack reads the archive at file with the first of the readers that knows it;
// dir must exist and should be empty.
func (u Unpacker) Unpack(ctx context.Context, file, dir string, readers ...Reader) error {
	f, err := Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	r, err := readerOf(f, readers)
	if err != nil {
		return err
	}
	if u.root, err = os.OpenRoot(dir); err != nil {
		return err
	}
	defer func() { _ = u.root.Close() }()
	u.left = u.Most
	var failed error
	_, err = r.Walk(ctx, f, func(e Entry, content io.Reader) error {
		if err := u.entry(e, content); err != nil {
			failed = fmt.Errorf("unpack %q: %w", e.Path, err)
			return failed
		}
		return nil
	})
	if failed != nil && ctx.Err() == nil {
		return failed // without what the reader says around it
	}
	return err
}

func (u *Unpacker) entry(e Entry, r io.Reader) error {
	to, err := u.place(e.Path)
	if err != nil || to == "" {
		return err
	}
	switch {
	case e.Hard:
		from, err := u.place(e.Link)
		if err != nil {
			return err
		}
		if from == "" {
			return errors.New("it is a link to what is left out")
		}
		if err := u.clear(to); err != nil {
			return err
		}
		return u.root.Link(from, to)
	case e.Mode.IsDir():
		return u.folder(to)
	case e.IsLink():
		return u.link(to, e.Link)
	case e.Mode.IsRegular():
		return u.file(to, e.Mode, e.Time, r)
	}
	return errors.New("it is neither file, folder nor link")
}

// place gives the path below the folder, "" for what is passed over. A path
// that leads out of the archive is refused and not repaired.
func (u *Unpacker) place(name string) (string, error) {
	if strings.HasPrefix(name, "/") || strings.Contains(name, "\x00") || strings.Contains(name, "\\") {
		return "", errors.New("a path in an archive must be relative and have forward slashes")
	}
	for _, part := range strings.Split(name, "/") {
		if part == ".." {
			return "", errors.New("the path leads out of the archive")
		}
	}
	parts := strings.Split(path.Clean(name), "/")
	if len(parts) <= u.Drop || path.Clean(name) == "." {
		return "", nil
	}
	return strings.Join(parts[u.Drop:], "/"), nil
}

func (u *Unpacker) folder(to string) error {
	if info, err := u.root.Lstat(to); err == nil && info.IsDir() {
		return nil
	}
	return u.root.MkdirAll(to, 0o755)
}

// clear makes room for an entry: a later one replaces an earlier one.
func (u *Unpacker) clear(to string) error {
	if dir := path.Dir(to); dir != "." {
		if err := u.folder(dir); err != nil {
			return err
		}
	}
	info, err := u.root.Lstat(to)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && info.IsDir() {
		return errors.New("it would replace a folder")
	}
	if err == nil {
		err = u.root.Remove(to)
	}
	return err
}

func (u *Unpacker) link(to, target string) error {
	if target == "" {
		return errors.New("it is a link to nothing")
	}
	if err := u.clear(to); err != nil {
		return err
	}
	return u.root.Symlink(target, to)
}

func (u *Unpacker) file(to string, mode fs.FileMode, modified time.Time, r io.Reader) error {
	if err := u.clear(to); err != nil {
		return err
	}
	f, err := u.root.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode.Perm()|0o600)
	if err != nil {
		return err
	}
	if u.Most > 0 {
		r = io.LimitReader(r, u.left+1)
	}
	n, err := io.CopyBuffer(onlyWriter{f}, r, make([]byte, 256<<10))
	if u.left -= n; err == nil && u.Most > 0 && u.left < 0 {
		err = fmt.Errorf("the archive unpacks to more than %d MiB", u.Most>>20)
	}
	if err == nil {
		err = f.Chmod(mode.Perm() | 0o600)
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil && !modified.IsZero() {
		err = u.root.Chtimes(to, modified, modified)
	}
	return err
}

// onlyWriter hides ReadFrom, so that CopyBuffer uses the buffer it was given.
type onlyWriter struct{ io.Writer }
