// Package deb writes and reads Debian packages: an ar archive of the format's
// version, a tar of control files, and a tar of the files. Source: deb(5) and
// Debian Policy 4.6.
package deb

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"piedmont/internal/format/ar"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/format/compress"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// Write writes a package. compression is gz, xz or zst, for the files.
func (Format) Write(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string,
	o archive.Options) error {
	o.Time, o.OneFrame = p.Time, true // dpkg 1.21 reads no further than the first frame
	// The data member's size stands before it, so it is written aside.
	data := compress.NewSpool(nil)
	defer data.Close()
	sums, err := writeData(ctx, data, p, compression, o)
	if err != nil {
		return err
	}
	control, err := controlTar(ctx, p, sums, o)
	if err != nil {
		return err
	}
	if err := ar.Begin(w); err != nil {
		return err
	}
	for _, m := range []struct {
		name    string
		size    int64
		content io.WriterTo
	}{
		{"debian-binary", 4, strings.NewReader("2.0\n")},
		{"control.tar.gz", int64(len(control)), bytes.NewReader(control)},
		{"data.tar." + compression, data.Size(), data},
	} {
		if err := ar.Put(w, m.name, m.size, p.Time, m.content); err != nil {
			return fmt.Errorf("%s of %d bytes: %w", m.name, m.size, err)
		}
	}
	return nil
}

// writeData writes the files and gives the md5sums of the regular ones.
func writeData(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string,
	o archive.Options) (string, error) {
	s, err := compress.NewStream(w, compression, o.Options)
	if err != nil {
		return "", err
	}
	defer func() { _ = s.Close() }() // an error leaves it open
	var sums strings.Builder
	for _, f := range append([]release.Entry{linuxpkg.Folder(".")}, linuxpkg.WithFolders(p.Files, true)...) {
		h := header(f, o)
		if _, err := tarball.Put(ctx, s, h, f.Entry); err != nil {
			return "", err
		}
		if h.Typeflag != tar.TypeReg || f.Keep {
			continue // configuration files are listed as such, with digests of dpkg's own
		}
		sum, err := linuxpkg.MD5(ctx, f.Content, compress.Algorithm(compression, o.Options))
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&sums, "%s  %s\n", sum, f.Path)
	}
	if err := tarball.End(s); err != nil {
		return "", err
	}
	return sums.String(), s.Close()
}

// header is an entry's tar header as dpkg reads it: GNU or ustar, paths with a
// leading "./".
func header(f release.Entry, o archive.Options) *tar.Header {
	h := &tar.Header{Name: "./" + f.Path, Mode: int64(archive.UnixMode(f.Mode)), Uname: f.Owner, Gname: f.Group,
		ModTime: o.Time, Typeflag: tar.TypeReg, Size: f.Size, Format: tar.FormatGNU}
	switch {
	case f.Path == ".":
		h.Name, h.Typeflag, h.Size = "./", tar.TypeDir, 0
	case f.Mode.IsDir():
		h.Name, h.Typeflag, h.Size = h.Name+"/", tar.TypeDir, 0
	case f.IsLink():
		h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, f.Link, 0
	}
	return h
}

func controlTar(ctx context.Context, p *linuxpkg.Package, sums string, o archive.Options) ([]byte, error) {
	control, err := control(p)
	if err != nil {
		return nil, err
	}
	type file struct {
		name, content string
		mode          fs.FileMode
	}
	files := []file{{"control", control, 0o644}, {"md5sums", sums, 0o644}, {"conffiles", conffiles(p), 0o644}}
	for _, name := range []string{"preinst", "postinst", "prerm", "postrm"} {
		files = append(files, file{name, maintainerScript(p.Scripts, name), 0o755})
	}
	var buf bytes.Buffer
	s, err := compress.NewStream(&buf, "gz", o.Options)
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.Close() }()
	root := linuxpkg.Folder(".")
	if _, err := tarball.Put(ctx, s, header(root, o), root.Entry); err != nil {
		return nil, err
	}
	for _, f := range files {
		if f.content == "" {
			continue
		}
		e := linuxpkg.Written(f.name, "")
		e.Mode, e.Content = f.mode, compress.Text(f.content)
		if _, err := tarball.Put(ctx, s, header(e, o), e.Entry); err != nil {
			return nil, err
		}
	}
	if err := tarball.End(s); err != nil {
		return nil, err
	}
	if err := s.Close(); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}

func conffiles(p *linuxpkg.Package) string {
	var b strings.Builder
	for _, f := range p.Files {
		if f.Keep {
			b.WriteString("/" + f.Path + "\n")
		}
	}
	return b.String()
}
