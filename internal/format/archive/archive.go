// Package archive writes and reads archives. The writers are deterministic: the
// same entries give the same bytes, whatever machine, time, user or number of
// processors they meet.
package archive

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/exe"
	"piedmont/internal/release"
)

// Entry is a file or a symbolic link that goes into an archive.
type Entry struct {
	Path   string      // slash-separated, relative
	Mode   fs.FileMode // permission bits
	Size   int64       // bytes; of files
	Link   string      // the target of a symbolic link, else ""
	SHA256 string      // when it is known already, else ""
	Binary *exe.Info
	Source
}

// Source is where a file's content comes from.
type Source struct {
	Open func() (io.ReadCloser, error)
	// Compressed gives the content's compressed bytes by an algorithm, for a file
	// that stands Alone and whose SHA256 is known. It may be nil.
	Compressed func(ctx context.Context, algorithm string) (*Compressed, error)
}

// Options are common to all formats.
type Options struct {
	Time time.Time // of every entry
	Jobs int       // how many parts are compressed at once; leaves no trace in the bytes
	// Effort is Fast, Normal or Small; "" is Normal.
	Effort string
	// OneFrame makes a zstd stream one frame, for readers that know no more.
	OneFrame bool
}

func (o Options) effort() string {
	if o.Effort == "" {
		return Normal
	}
	return o.Effort
}

// Write makes an archive and tells what it holds. It stops when ctx ends.
func Write(ctx context.Context, w io.Writer, format string, entries []Entry, o Options) ([]release.Entry, error) {
	entries, err := ordered(entries)
	if err != nil {
		return nil, err
	}
	if format == "zip" {
		return writeZip(ctx, w, entries, o)
	}
	compression, ok := strings.CutPrefix(format, "tar.")
	if !ok {
		return nil, fmt.Errorf("unknown archive format %q", format)
	}
	c, err := NewStream(w, compression, o)
	if err != nil {
		return nil, err
	}
	holds, err := writeTar(ctx, c, entries, o)
	if closeErr := c.Close(); err == nil {
		err = closeErr
	}
	return holds, err
}

// ordered sorts by path and puts every folder before what it holds.
func ordered(entries []Entry) ([]Entry, error) {
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

// copyEntry streams one file, checks its length, and takes its digest where it
// is not known.
func copyEntry(ctx context.Context, w io.Writer, e Entry) (string, error) {
	r, err := e.Open()
	if err != nil {
		return "", err
	}
	defer func() { _ = r.Close() }()
	sum := e.SHA256
	h := sha256.New()
	if sum == "" {
		w = io.MultiWriter(w, h)
	}
	n, err := io.CopyBuffer(onlyWriter{w}, fileio.Reader(ctx, io.LimitReader(r, e.Size+1)), make([]byte, min(256<<10, e.Size+1)))
	if err != nil {
		return "", fmt.Errorf("pack %s: %w", e.Path, err)
	}
	if n != e.Size {
		return "", fmt.Errorf("pack %s: it changed while it was read", e.Path)
	}
	if sum == "" {
		sum = hex.EncodeToString(h.Sum(nil))
	}
	return sum, nil
}

// onlyWriter hides ReadFrom, so that CopyBuffer uses the buffer it was given.
type onlyWriter struct{ io.Writer }

func held(e Entry, sum string) release.Entry {
	return release.Entry{Path: e.Path, Mode: fmt.Sprintf("%04o", e.Mode.Perm()), Size: e.Size, SHA256: sum, Link: e.Link, Binary: e.Binary}
}
