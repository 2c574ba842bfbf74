package apk

import (
	"context"
	"io"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/linuxpkg"
)

// Sniff knows none by its beginning: that is any gzip member's.
func (Format) Sniff([]byte) bool { return false }

// Recognize knows the tar by what it holds, and by what pacman's packages hold
// besides.
func (Format) Recognize(has func(string) bool) bool {
	return has(".PKGINFO") && !has(".MTREE") && !has(".BUILDINFO")
}

// Read tells what a package says and holds; look sees the content of each file.
// The members are read as one tar, since those before the last have no end.
func (Format) Read(ctx context.Context, path string,
	look func(archive.Entry, io.Reader) error) (*linuxpkg.Contents, error) {
	f, err := archive.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	out := &linuxpkg.Contents{Format: name, Fields: []linuxpkg.Field{}, Scripts: []linuxpkg.Script{}}
	signed := ""
	_, err = tarball.Walk(ctx, f, func(e archive.Entry, r io.Reader) error {
		about := strings.HasPrefix(e.Path, ".")
		switch {
		case !about:
			out.Files = append(out.Files, e)
			return linuxpkg.Look(look, e, r)
		case !e.Mode.IsRegular():
		case e.Path == ".PKGINFO":
			text, err := linuxpkg.ReadMember(r)
			out.Fields = linuxpkg.PkgInfo(text)
			return err
		case strings.HasPrefix(e.Path, ".SIGN."):
			signed = strings.TrimPrefix(e.Path, ".SIGN.")
		default:
			text, err := linuxpkg.ReadMember(r)
			out.Scripts = append(out.Scripts, linuxpkg.Script{When: strings.TrimPrefix(e.Path, "."), Text: text})
			return err
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if signed != "" {
		out.Fields = append(out.Fields, linuxpkg.Field{Name: "signed by", Value: signed})
	}
	out.Name, out.Version = out.Value("pkgname"), out.Value("pkgver")
	return out, nil
}
