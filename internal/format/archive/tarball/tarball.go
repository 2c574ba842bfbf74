// Package tarball writes and reads tar archives, as POSIX.1-2001 describes them,
// in a compressed stream.
package tarball

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
)

// Format is tar with a compression: gz, xz or zst.
type Format string

// Name is the ending of file names.
func (f Format) Name() string { return "tar." + string(f) }

// MediaType is that of the compression: what it holds shows when it is unpacked.
func (f Format) MediaType() string {
	return map[Format]string{"gz": "application/gzip", "xz": "application/x-xz", "zst": "application/zstd"}[f]
}

// Check refuses nothing.
func (Format) Check(archive.Entry, archive.Options) error { return nil }

// Write writes POSIX ustar headers, and pax ones where a field does not fit;
// owners are always 0 without a name.
func (f Format) Write(ctx context.Context, w io.Writer, entries []archive.Entry,
	o archive.Options) ([]archive.Entry, error) {
	s, err := compress.NewStream(w, string(f), o.Options)
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.Close() }() // an error leaves it open
	var held []archive.Entry
	for _, e := range entries {
		h := &tar.Header{Name: e.Path, Mode: int64(e.Mode.Perm()), ModTime: o.Time, Typeflag: tar.TypeReg, Size: e.Size}
		switch {
		case e.Mode.IsDir():
			h.Typeflag = tar.TypeDir
		case e.IsLink():
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, e.Link, 0
			e.Size = 0
		}
		if e.SHA256, err = Put(ctx, s, h, e); err != nil {
			return nil, err
		}
		if !e.Mode.IsDir() {
			held = append(held, e)
		}
	}
	if err := End(s); err != nil {
		return nil, err
	}
	return held, s.Close()
}

// Put writes a header and, for a file, the entry's content and what fills its
// last block. It gives the content's SHA-256.
func Put(ctx context.Context, s compress.Stream, h *tar.Header, e archive.Entry) (sha256 string, err error) {
	// A writer for each header writes that at once and nothing else, so that the
	// content can go into the stream by itself.
	if err := tar.NewWriter(s).WriteHeader(h); err != nil {
		return "", fmt.Errorf("pack %s: %w", e.Path, err)
	}
	if h.Typeflag != tar.TypeReg {
		return "", nil
	}
	sum, err := s.File(ctx, e.Content)
	if err != nil {
		return "", fmt.Errorf("pack %s: %w", e.Path, err)
	}
	_, err = s.Write(make([]byte, -e.Size&511))
	return sum, err
}

// End writes the two empty blocks at the end.
func End(s compress.Stream) error {
	_, err := s.Write(make([]byte, 1024))
	return err
}

// Reader reads tar archives of every compression, and plain ones. A tar has no
// sure sign at its beginning, so this is the last of several readers to ask.
type Reader struct{}

// Sniff takes everything: whether it is a tar shows when it is read.
func (Reader) Sniff([]byte) bool { return true }

// Sniff takes everything, too.
func (Format) Sniff(head []byte) bool { return Reader{}.Sniff(head) }

// Walk reads tar archives of every compression, also of others than f.
func (Format) Walk(ctx context.Context, in archive.File, each func(archive.Entry, io.Reader) error) (string, error) {
	return Walk(ctx, in, each)
}

// Walk reads an archive; see archive.Reader.
func (Reader) Walk(ctx context.Context, in archive.File, each func(archive.Entry, io.Reader) error) (string, error) {
	return Walk(ctx, in, each)
}

// Walk reads a tar from a stream, compressed or not.
func Walk(ctx context.Context, r io.Reader, each func(archive.Entry, io.Reader) error) (name string, err error) {
	plain, compression, end, err := compress.Decompress(r)
	if err != nil {
		return "", archive.ErrNotArchive
	}
	defer end()
	plain = fileio.Reader(ctx, plain)
	name = "tar"
	if compression != "" {
		name += "." + compression
	}
	t := tar.NewReader(plain)
	last := ""
	for n := 0; ; n++ {
		h, err := t.Next()
		if err == io.EOF {
			if n == 0 && compression == "" {
				return "", archive.ErrNotArchive
			}
			// What follows the last entry carries the compression's checksum.
			if _, err := io.Copy(io.Discard, plain); err != nil {
				return "", fmt.Errorf("read the %s archive to its end: %w", name, err)
			}
			return name, nil
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			if ctx.Err() != nil {
				return "", ctx.Err()
			}
			if n == 0 {
				return "", archive.ErrNotArchive
			}
			return "", fmt.Errorf("read the %s archive after %s: %w", name, last, err)
		}
		if n == archive.MaxEntries {
			return "", archive.ErrTooMany
		}
		if h.Typeflag == tar.TypeXGlobalHeader {
			continue
		}
		last = h.Name
		if err := each(entryOf(h), t); err != nil {
			return "", fmt.Errorf("read %s: %w", h.Name, err)
		}
	}
}

func entryOf(h *tar.Header) archive.Entry {
	e := archive.Entry{Path: h.Name, Mode: h.FileInfo().Mode(), Owner: h.Uname, Group: h.Gname,
		Time: h.ModTime.UTC(), Link: h.Linkname}
	e.Size = h.Size
	switch h.Typeflag {
	case tar.TypeLink:
		e.Hard = true
	case tar.TypeReg, tar.TypeDir, tar.TypeSymlink:
	default:
		e.Mode |= fs.ModeIrregular // such as a device
	}
	if e.Owner == "" {
		e.Owner = fmt.Sprint(h.Uid)
	}
	if e.Group == "" {
		e.Group = fmt.Sprint(h.Gid)
	}
	return e
}
