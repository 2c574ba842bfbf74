package archive

import (
	"archive/tar"
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"
)

// Item is one entry that an archive was found to hold.
type Item struct {
	Path  string    `json:"path"`
	Type  string    `json:"type"` // file, folder, link, or other
	Mode  string    `json:"mode"`
	Owner string    `json:"owner"` // user:group as numbers or names; "" in zip
	Size  int64     `json:"size"`
	Time  time.Time `json:"time"`
	Link  string    `json:"link,omitempty"`
}

// ErrNotArchive means that a file is none of the known archive formats.
var ErrNotArchive = errors.New("this is not an archive that Piedmont knows: tar (plain, gz, xz, zst) or zip")

// maxItems bounds what a hostile archive can make us remember.
const maxItems = 1 << 20

// List tells what an archive holds without unpacking it; the format is known
// by its content. For zip only the directory at its end is read.
func List(path string) (format string, items []Item, err error) {
	return Walk(path, nil)
}

// Walk is List, and gives every file's content to look, which need not read it.
func Walk(path string, look func(Item, io.Reader) error) (format string, items []Item, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", nil, err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return "", nil, err
	}
	var magic [4]byte
	n, _ := f.ReadAt(magic[:], 0)
	if n == 4 && (string(magic[:]) == "PK\x03\x04" || string(magic[:]) == "PK\x05\x06") {
		items, err = listZip(f, info.Size(), look)
		return "zip", items, err
	}
	return listTar(f, look)
}

// WalkStream is Walk for a tar, compressed or not, that is read from r.
func WalkStream(r io.Reader, look func(Item, io.Reader) error) ([]Item, error) {
	_, items, err := listTar(r, look)
	return items, err
}

func listZip(r io.ReaderAt, size int64, look func(Item, io.Reader) error) ([]Item, error) {
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, fmt.Errorf("read the zip archive: %w", err)
	}
	var items []Item
	for _, f := range z.File {
		if len(items) == maxItems {
			return nil, fmt.Errorf("the archive holds more than %d entries", maxItems)
		}
		mode := f.Mode()
		item := Item{Path: f.Name, Type: typeOf(mode), Mode: octal(mode), Size: int64(f.UncompressedSize64), Time: f.Modified.UTC()}
		if item.Type == "link" && f.UncompressedSize64 < 4096 {
			if rc, err := f.Open(); err == nil {
				target, _ := io.ReadAll(io.LimitReader(rc, 4096))
				_ = rc.Close()
				item.Link, item.Size = string(target), 0
			}
		}
		items = append(items, item)
		if look != nil && item.Type == "file" {
			if err := lookZip(f, item, look); err != nil {
				return nil, fmt.Errorf("read %s: %w", f.Name, err)
			}
		}
	}
	return items, nil
}

func listTar(r io.Reader, look func(Item, io.Reader) error) (string, []Item, error) {
	plain, name, closer, err := decompressor(r)
	if err != nil {
		return "", nil, ErrNotArchive
	}
	defer closer()
	format := strings.TrimSuffix("tar."+name, ".")
	t := tar.NewReader(plain)
	var items []Item
	for {
		h, err := t.Next()
		if err == io.EOF {
			if len(items) == 0 && name == "" {
				return "", nil, ErrNotArchive
			}
			// What follows the last entry carries the compression's checksum.
			if _, err := io.Copy(io.Discard, plain); err != nil {
				return "", nil, fmt.Errorf("read the %s archive to its end: %w", format, err)
			}
			return format, items, nil
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			if len(items) == 0 {
				return "", nil, ErrNotArchive
			}
			return "", nil, fmt.Errorf("read the %s archive after %s: %w", format, items[len(items)-1].Path, err)
		}
		if len(items) == maxItems {
			return "", nil, fmt.Errorf("the archive holds more than %d entries", maxItems)
		}
		mode := h.FileInfo().Mode()
		item := Item{Path: h.Name, Type: typeOf(mode), Mode: octal(mode), Owner: owner(h), Size: h.Size, Time: h.ModTime.UTC(), Link: h.Linkname}
		items = append(items, item)
		if look != nil && item.Type == "file" {
			if err := look(item, t); err != nil {
				return "", nil, fmt.Errorf("read %s: %w", h.Name, err)
			}
		}
	}
}

func lookZip(f *zip.File, item Item, look func(Item, io.Reader) error) error {
	rc, err := f.Open()
	if err != nil {
		return err
	}
	defer func() { _ = rc.Close() }()
	return look(item, rc)
}

func owner(h *tar.Header) string {
	user, group := h.Uname, h.Gname
	if user == "" {
		user = fmt.Sprint(h.Uid)
	}
	if group == "" {
		group = fmt.Sprint(h.Gid)
	}
	return user + ":" + group
}

func typeOf(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return "folder"
	case m&fs.ModeSymlink != 0:
		return "link"
	case m.IsRegular():
		return "file"
	}
	return "other"
}

func octal(m fs.FileMode) string {
	bits := uint32(m.Perm())
	for bit, flag := range map[fs.FileMode]uint32{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if m&bit != 0 {
			bits |= flag
		}
	}
	return fmt.Sprintf("%04o", bits)
}
