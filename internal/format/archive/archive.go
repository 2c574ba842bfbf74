// Package archive is what all archive formats share: their entries, the order
// in which these are written, and unpacking into a folder. Each format is a
// package below this one. The writers are deterministic: the same entries give
// the same bytes, whatever machine, time, user or number of processors they meet.
package archive

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"piedmont/internal/format/compress"
)

// Version goes into the key of whatever is packed. It changes whenever the same
// entries would give other bytes, such as after an update of a compressor.
const Version = "pack/3"

// Entry is a file, folder or symbolic link: one that goes into an archive, or
// one that an archive was found to hold.
type Entry struct {
	Path         string      // slash-separated, relative
	Mode         fs.FileMode // type and permissions
	Owner, Group string      // names or numbers; "" in formats without owners
	Time         time.Time   // as found; what is written gets that of Options
	Link         string      // the target of a link
	Hard         bool        // the link is a hard one
	compress.Content
}

// IsLink says whether it is a symbolic link.
func (e Entry) IsLink() bool { return e.Mode&fs.ModeSymlink != 0 }

// Type is the kind of an entry in a word: file, folder, link or other.
func (e Entry) Type() string {
	switch {
	case e.Mode.IsDir():
		return "folder"
	case e.IsLink():
		return "link"
	case e.Mode.IsRegular():
		return "file"
	}
	return "other"
}

// MarshalJSON writes an entry as it was found.
func (e Entry) MarshalJSON() ([]byte, error) {
	owner := ""
	if e.Owner+e.Group != "" {
		owner = e.Owner + ":" + e.Group
	}
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false) // that is for whoever encodes around it to say
	err := enc.Encode(struct {
		Path  string    `json:"path"`
		Type  string    `json:"type"`
		Mode  string    `json:"mode"`
		Owner string    `json:"owner"`
		Size  int64     `json:"size"`
		Time  time.Time `json:"time"`
		Link  string    `json:"link,omitempty"`
	}{e.Path, e.Type(), Octal(e.Mode), owner, e.Size, e.Time, e.Link})
	return buf.Bytes(), err
}

// UnixMode gives permissions, setuid, setgid and sticky as Unix numbers them.
func UnixMode(m fs.FileMode) uint32 {
	bits := uint32(m.Perm())
	for _, b := range unixBits {
		if m&b.flag != 0 {
			bits |= b.bit
		}
	}
	return bits
}

// FileMode is the opposite of UnixMode.
func FileMode(bits uint32) fs.FileMode {
	m := fs.FileMode(bits & 0o777)
	for _, b := range unixBits {
		if bits&b.bit != 0 {
			m |= b.flag
		}
	}
	return m
}

var unixBits = []struct {
	bit  uint32
	flag fs.FileMode
}{{0o4000, fs.ModeSetuid}, {0o2000, fs.ModeSetgid}, {0o1000, fs.ModeSticky}}

// Octal writes a mode as people do, such as 0755.
func Octal(m fs.FileMode) string { return fmt.Sprintf("%04o", UnixMode(m)) }

// Options are common to all formats.
type Options struct {
	Time time.Time // of every entry
	compress.Options
}

// Format is one archive format.
type Format interface {
	// Name is the ending of its files without the first dot, such as tar.gz.
	Name() string
	MediaType() string
	// Check says why an entry cannot be held; nil when it can.
	Check(e Entry, o Options) error
	// Write makes an archive of entries that Ordered has put in order, and gives
	// those that are no folders, with their digests.
	Write(ctx context.Context, w io.Writer, entries []Entry, o Options) ([]Entry, error)
	Reader
}

// Reader reads archives of one form.
type Reader interface {
	// Sniff says whether a file begins as these archives do.
	Sniff(head []byte) bool
	// Walk calls each with every entry and, for a file, its content, which need
	// not be read. The name is that of the format with its compression.
	Walk(ctx context.Context, f File, each func(Entry, io.Reader) error) (name string, err error)
}

// File is an archive that is read.
type File interface {
	io.Reader
	io.ReaderAt
	Size() int64
}

// ErrNotArchive means that a file is none of the known archive formats.
var ErrNotArchive = errors.New("this is not an archive that Piedmont knows: tar (plain, gz, xz, zst) or zip")

// MaxEntries bounds what a hostile archive can make us remember.
const MaxEntries = 1 << 20

// ErrTooMany means that an archive holds more than MaxEntries.
var ErrTooMany = fmt.Errorf("the archive holds more than %d entries", MaxEntries)

// Write makes an archive and tells what it holds, without folders. It stops when
// ctx ends.
func Write(ctx context.Context, w io.Writer, f Format, entries []Entry, o Options) ([]Entry, error) {
	entries, err := Ordered(entries)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if err := f.Check(e, o); err != nil {
			return nil, err
		}
	}
	return f.Write(ctx, w, entries, o)
}

// Ordered sorts by path and puts every folder before what it holds.
func Ordered(entries []Entry) ([]Entry, error) {
	out := slices.Clone(entries)
	folders := map[string]bool{}
	files := map[string]bool{}
	for _, e := range entries {
		if !fs.ValidPath(e.Path) || e.Path == "." {
			return nil, fmt.Errorf("%q cannot be a path in an archive", e.Path)
		}
		if files[e.Path] {
			return nil, fmt.Errorf("two entries have the path %q", e.Path)
		}
		files[e.Path] = true
		for dir := path.Dir(e.Path); dir != "." && !folders[dir]; dir = path.Dir(dir) {
			folders[dir] = true
			out = append(out, Entry{Path: dir + "/", Mode: fs.ModeDir | 0o755})
		}
	}
	for dir := range folders {
		if files[dir] {
			return nil, fmt.Errorf("%q would be a file and a folder", dir)
		}
	}
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// Leaves says whether a link at a path of an archive points out of it.
func Leaves(at, target string) bool {
	if path.IsAbs(target) {
		return true
	}
	p := path.Join(path.Dir(at), target)
	return p == ".." || strings.HasPrefix(p, "../")
}
