package archive

import (
	"archive/tar"
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"piedmont/internal/base/fileio"
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

// Unpack reads the archive at file; dir must exist and should be empty.
func (u Unpacker) Unpack(ctx context.Context, file, dir string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	if u.root, err = os.OpenRoot(dir); err != nil {
		return err
	}
	defer func() { _ = u.root.Close() }()
	u.left = u.Most
	var magic [4]byte
	if n, _ := f.ReadAt(magic[:], 0); n == 4 && string(magic[:2]) == "PK" {
		info, err := f.Stat()
		if err != nil {
			return err
		}
		return u.zip(ctx, f, info.Size())
	}
	return u.tar(ctx, f)
}

func (u *Unpacker) tar(ctx context.Context, r io.Reader) error {
	plain, name, closer, err := decompressor(r)
	if err != nil {
		return ErrNotArchive
	}
	defer closer()
	t := tar.NewReader(fileio.Reader(ctx, plain))
	for entries := 0; ; entries++ {
		h, err := t.Next()
		if err == io.EOF {
			if entries == 0 && name == "" {
				return ErrNotArchive
			}
			// What follows carries the compression's checksum.
			_, err := io.Copy(io.Discard, fileio.Reader(ctx, plain))
			return wrap("read the archive to its end", err)
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if entries == 0 {
				return ErrNotArchive
			}
			return fmt.Errorf("read the archive: %w", err)
		}
		if entries == maxItems {
			return fmt.Errorf("the archive holds more than %d entries", maxItems)
		}
		if err := u.tarEntry(h, t); err != nil {
			return fmt.Errorf("unpack %q: %w", h.Name, err)
		}
	}
}

func (u *Unpacker) tarEntry(h *tar.Header, r io.Reader) error {
	if h.Typeflag == tar.TypeXGlobalHeader {
		return nil
	}
	to, err := u.place(h.Name)
	if err != nil || to == "" {
		return err
	}
	switch h.Typeflag {
	case tar.TypeDir:
		return u.folder(to)
	case tar.TypeReg:
		return u.file(to, h.FileInfo().Mode(), h.ModTime, r)
	case tar.TypeSymlink:
		return u.link(to, h.Linkname)
	case tar.TypeLink:
		from, err := u.place(h.Linkname)
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
	}
	return errors.New("it is neither file, folder nor link")
}

func (u *Unpacker) zip(ctx context.Context, r io.ReaderAt, size int64) error {
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return fmt.Errorf("read the zip archive: %w", err)
	}
	for _, f := range z.File {
		if err := u.zipEntry(ctx, f); err != nil {
			return fmt.Errorf("unpack %q: %w", f.Name, err)
		}
	}
	return nil
}

func (u *Unpacker) zipEntry(ctx context.Context, f *zip.File) error {
	to, err := u.place(f.Name)
	if err != nil || to == "" {
		return err
	}
	mode := f.Mode()
	if mode.IsDir() {
		return u.folder(to)
	}
	rc, err := f.Open()
	if err != nil {
		return err
	}
	defer func() { _ = rc.Close() }()
	switch typeOf(mode) {
	case "link":
		target, err := io.ReadAll(io.LimitReader(rc, 4096))
		if err != nil {
			return err
		}
		return u.link(to, string(target))
	case "file":
		return u.file(to, mode, f.Modified, fileio.Reader(ctx, rc))
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

func wrap(what string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", what, err)
}
