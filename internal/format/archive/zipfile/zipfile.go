// Package zipfile writes and reads zip archives, as PKWARE's APPNOTE 6.3
// describes them.
package zipfile

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
)

// Format is zip with deflated entries.
type Format struct{}

// Name is the ending of file names.
func (Format) Name() string { return "zip" }

// MediaType is the registered one.
func (Format) MediaType() string { return "application/zip" }

// Check refuses links that lead out of the archive: whoever unpacks a zip on a
// system without links gets a file with a path in it.
func (Format) Check(e archive.Entry, _ archive.Options) error {
	if e.IsLink() && archive.Leaves(e.Path, e.Link) {
		return &OutsideError{e.Path, e.Link}
	}
	return nil
}

// OutsideError means that a symbolic link leads out of an archive.
type OutsideError struct{ Path, Link string }

func (e *OutsideError) Error() string {
	return fmt.Sprintf("the symbolic link %s leads to %s, outside of the archive, which zip cannot hold",
		e.Path, e.Link)
}

// Write writes deflated entries with Unix modes; times are in UTC, with the
// extended timestamp that readers with a time zone need.
func (Format) Write(ctx context.Context, w io.Writer, entries []archive.Entry,
	o archive.Options) ([]archive.Entry, error) {
	z := zip.NewWriter(w)
	var open io.Closer // the compressor of the entry that is written
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		d := compress.NewDeflater(w, o.Options)
		open = d
		return d, nil
	})
	defer func() {
		if open != nil {
			_ = open.Close() // after an error nobody else does
		}
	}()
	var held []archive.Entry
	for _, e := range entries {
		if err := put(ctx, z, &e, o); err != nil {
			return nil, fmt.Errorf("pack %s: %w", e.Path, err)
		}
		if !e.Mode.IsDir() {
			held = append(held, e)
		}
	}
	return held, z.Close()
}

// put writes one entry, and takes its digest where it is not known.
func put(ctx context.Context, z *zip.Writer, e *archive.Entry, o archive.Options) error {
	h := &zip.FileHeader{Name: e.Path, Modified: o.Time.UTC(), Method: zip.Deflate}
	switch {
	case e.Mode.IsDir():
		h.Method = zip.Store
		h.SetMode(fs.ModeDir | e.Mode.Perm())
		_, err := z.CreateHeader(h)
		return err
	case e.IsLink():
		h.Method = zip.Store
		h.SetMode(fs.ModeSymlink | 0o777)
		e.Size, e.SHA256 = 0, ""
		out, err := z.CreateHeader(h)
		if err == nil {
			_, err = io.WriteString(out, e.Link)
		}
		return err
	}
	h.SetMode(e.Mode.Perm())
	cached, err := e.Fragment(ctx, compress.Deflate)
	if err != nil {
		return err
	}
	if cached != nil {
		return raw(z, h, *cached)
	}
	out, err := z.CreateHeader(h)
	if err != nil {
		return err
	}
	e.SHA256, err = e.Copy(ctx, out)
	return err
}

// raw writes an entry of its compressed bytes, as CreateHeader would: with sizes
// and checksum after the content, and the extended timestamp.
func raw(z *zip.Writer, h *zip.FileHeader, d compress.Fragment) error {
	seconds := uint32(h.Modified.Unix())
	// CreateRaw writes these as they are; they count two seconds from 1980 on.
	at := h.Modified.UTC()
	//lint:ignore SA1019 CreateRaw looks at no other field
	h.ModifiedDate = uint16(at.Day() + int(at.Month())<<5 + (at.Year()-1980)<<9)
	//lint:ignore SA1019 CreateRaw looks at no other field
	h.ModifiedTime = uint16(at.Second()/2 + at.Minute()<<5 + at.Hour()<<11)
	h.Extra = []byte{0x55, 0x54, 5, 0, 1, byte(seconds), byte(seconds >> 8), byte(seconds >> 16), byte(seconds >> 24)}
	h.CRC32, h.UncompressedSize64 = d.CRC32, uint64(d.Plain)
	h.CompressedSize64 = uint64(d.Size) + uint64(len(compress.LastBlock))
	h.Flags |= 0x8
	if strings.ContainsFunc(h.Name, func(r rune) bool { return r >= 0x80 }) {
		h.Flags |= 0x800
	}
	h.CreatorVersion, h.ReaderVersion = h.CreatorVersion&0xff00|20, 20
	out, err := z.CreateRaw(h)
	if err != nil {
		return err
	}
	if err := compress.Place(out, d.Path); err != nil {
		return err
	}
	_, err = out.Write(compress.LastBlock)
	return err
}

// Sniff knows the signature of an entry, or of the end of an empty archive.
func (Format) Sniff(head []byte) bool {
	return strings.HasPrefix(string(head), "PK\x03\x04") || strings.HasPrefix(string(head), "PK\x05\x06")
}

// maxLink bounds the target of a link, in bytes.
const maxLink = 4096

// Walk reads the directory at the archive's end, and each content that is asked for.
func (Format) Walk(ctx context.Context, in archive.File, each func(archive.Entry, io.Reader) error) (string, error) {
	z, err := zip.NewReader(in, in.Size())
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return "", fmt.Errorf("read the zip archive: %w", err)
	}
	for n, f := range z.File {
		if n == archive.MaxEntries {
			return "", archive.ErrTooMany
		}
		if err := walk(ctx, f, each); err != nil {
			return "", fmt.Errorf("read %s: %w", f.Name, err)
		}
	}
	return "zip", nil
}

func walk(ctx context.Context, f *zip.File, each func(archive.Entry, io.Reader) error) error {
	e := archive.Entry{Path: f.Name, Mode: f.Mode(), Time: f.Modified.UTC()}
	e.Size = int64(f.UncompressedSize64)
	content := &lazy{ctx: ctx, file: f}
	defer content.close()
	if e.IsLink() && f.UncompressedSize64 < maxLink {
		target, err := io.ReadAll(io.LimitReader(content, maxLink))
		if err != nil {
			return err
		}
		e.Link, e.Size = string(target), 0
	}
	return each(e, content)
}

// lazy opens a content when it is read first.
type lazy struct {
	ctx  context.Context
	file *zip.File
	open io.ReadCloser
	r    io.Reader
}

func (l *lazy) Read(p []byte) (int, error) {
	if l.open == nil {
		var err error
		if l.open, err = l.file.Open(); err != nil {
			return 0, err
		}
		l.r = fileio.Reader(l.ctx, l.open)
	}
	return l.r.Read(p)
}

func (l *lazy) close() {
	if l.open != nil {
		_ = l.open.Close()
	}
}
