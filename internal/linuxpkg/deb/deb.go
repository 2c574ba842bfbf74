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
	"os"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
)

// Write writes a package. compression is gz, xz or zst, for the files.
func Write(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string, o archive.Options) error {
	o.Time, o.OneFrame = p.Time, true // dpkg 1.21 reads no further than the first frame
	// The data member's size stands before it, so it is written aside.
	data := archive.NewSpool(nil)
	defer data.Close()
	sums, err := writeData(ctx, data, p, compression, o)
	if err != nil {
		return err
	}
	control, err := controlTar(ctx, p, sums, o)
	if err != nil {
		return err
	}
	if _, err := io.WriteString(w, "!<arch>\n"); err != nil {
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
		if err := member(w, m.name, m.size, p, m.content); err != nil {
			return err
		}
	}
	return nil
}

// member writes one file of an ar archive. Source: ar(5).
func member(w io.Writer, name string, size int64, p *linuxpkg.Package, content io.WriterTo) error {
	if size > 9999999999 {
		return fmt.Errorf("%s would have %d bytes, and a deb holds less than 10 GB", name, size)
	}
	if _, err := fmt.Fprintf(w, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", name, p.Time.Unix(), 0, 0, "100644", size); err != nil {
		return err
	}
	if _, err := content.WriteTo(w); err != nil {
		return err
	}
	if size%2 == 1 {
		_, err := w.Write([]byte{'\n'})
		return err
	}
	return nil
}

// writeData writes the files and gives the md5sums of the regular ones.
func writeData(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string, o archive.Options) (string, error) {
	s, err := archive.NewStream(w, compression, o)
	if err != nil {
		return "", err
	}
	var sums strings.Builder
	for _, f := range append([]linuxpkg.File{{Path: ".", Mode: os.ModeDir | 0o755, Owner: "root", Group: "root"}}, linuxpkg.WithFolders(p.Files, true)...) {
		h := Header(f, o)
		if _, err := archive.TarEntry(ctx, s, h, f.Entry()); err != nil {
			return "", err
		}
		if h.Typeflag != tar.TypeReg || f.Keep {
			continue // configuration files are listed as such, with digests of dpkg's own
		}
		sum, err := linuxpkg.MD5(ctx, f, archive.Algorithm(compression, o))
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&sums, "%s  %s\n", sum, f.Path)
	}
	if err := archive.EndTar(s); err != nil {
		return "", err
	}
	return sums.String(), s.Close()
}

// Header is a file's tar header as dpkg reads it: GNU or ustar, paths with a
// leading "./".
func Header(f linuxpkg.File, o archive.Options) *tar.Header {
	h := &tar.Header{Name: "./" + f.Path, Mode: int64(f.Unix() & 0o7777), Uname: f.Owner, Gname: f.Group, ModTime: o.Time, Typeflag: tar.TypeReg, Size: f.Size, Format: tar.FormatGNU}
	switch {
	case f.Path == ".":
		h.Name, h.Typeflag, h.Size = "./", tar.TypeDir, 0
	case f.Dir():
		h.Name, h.Typeflag, h.Size = h.Name+"/", tar.TypeDir, 0
	case f.Link != "":
		h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, f.Link, 0
	}
	return h
}

func controlTar(ctx context.Context, p *linuxpkg.Package, sums string, o archive.Options) ([]byte, error) {
	control, err := Control(p)
	if err != nil {
		return nil, err
	}
	files := []struct {
		name, content string
		mode          os.FileMode
	}{{"control", control, 0o644}, {"md5sums", sums, 0o644}, {"conffiles", conffiles(p), 0o644}}
	for _, name := range []string{"preinst", "postinst", "prerm", "postrm"} {
		files = append(files, struct {
			name, content string
			mode          os.FileMode
		}{name, maintainerScript(p.Scripts, name), 0o755})
	}
	var buf bytes.Buffer
	s, err := archive.NewStream(&buf, "gz", o)
	if err != nil {
		return nil, err
	}
	if err := writeMember(ctx, s, linuxpkg.File{Path: ".", Mode: os.ModeDir | 0o755, Owner: "root", Group: "root"}, o, ""); err != nil {
		return nil, err
	}
	for _, f := range files {
		if f.content == "" {
			continue
		}
		if err := writeMember(ctx, s, linuxpkg.File{Path: f.name, Mode: f.mode, Owner: "root", Group: "root", Size: int64(len(f.content))}, o, f.content); err != nil {
			return nil, err
		}
	}
	if err := archive.EndTar(s); err != nil {
		return nil, err
	}
	if err := s.Close(); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}

func writeMember(ctx context.Context, s archive.Stream, f linuxpkg.File, o archive.Options, content string) error {
	f.Open = func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil }
	_, err := archive.TarEntry(ctx, s, Header(f, o), f.Entry())
	return err
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
