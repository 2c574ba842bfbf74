package alpm

import (
	"context"
	"io"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/linuxpkg"
)

// Sniff knows none by its beginning: that is any compressed stream's.
func (Format) Sniff([]byte) bool { return false }

// Recognize knows the tar by what it holds.
func (Format) Recognize(has func(string) bool) bool {
	return has(".PKGINFO") && (has(".MTREE") || has(".BUILDINFO"))
}

// Read tells what a package says and holds; look sees the content of each file.
func (Format) Read(ctx context.Context, path string,
	look func(archive.Entry, io.Reader) error) (*linuxpkg.Contents, error) {
	f, err := archive.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	out := &linuxpkg.Contents{Format: name, Fields: []linuxpkg.Field{}, Scripts: []linuxpkg.Script{}}
	_, err = tarball.Walk(ctx, f, func(e archive.Entry, r io.Reader) error {
		if !strings.HasPrefix(e.Path, ".") || e.Path == "./" {
			out.Files = append(out.Files, e)
			return linuxpkg.Look(look, e, r)
		}
		switch e.Path {
		case ".PKGINFO":
			text, err := linuxpkg.ReadMember(r)
			out.Fields = linuxpkg.PkgInfo(text)
			return err
		case ".INSTALL":
			text, err := linuxpkg.ReadMember(r)
			out.Scripts = append(out.Scripts, linuxpkg.Script{When: e.Path, Text: text})
			return err
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	out.Name, out.Version = out.Value("pkgname"), out.Value("pkgver")
	return out, nil
}
