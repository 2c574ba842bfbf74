// Package alpm writes and reads packages for pacman: a tar, compressed with
// zstd, of .BUILDINFO, .MTREE, .PKGINFO, .INSTALL and the files. Sources:
// PKGBUILD(5), BUILDINFO(5), alpm-pkginfo and alpm-mtree specifications, mtree(5).
package alpm

import (
	"archive/tar"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"io"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/format/compress"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// meta is a file about the package.
type meta struct{ name, content string }

// Write writes a package. compression is zst, xz or gz.
func (Format) Write(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string,
	o archive.Options) error {
	o.Time = p.Time
	text, err := info(p)
	if err != nil {
		return err
	}
	files := linuxpkg.WithFolders(p.Files, true)
	about := []meta{{".BUILDINFO", buildInfo(p)}, {".PKGINFO", text}, {".INSTALL", install(p.Scripts)},
		{".CHANGELOG", changelog(p)}}
	tree, err := mtree(ctx, p, about, files, compression, o)
	if err != nil {
		return err
	}
	about = append(about, meta{".MTREE", tree})
	s, err := compress.NewStream(w, compression, o.Options)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }() // an error leaves it open
	for _, m := range about {
		if m.content == "" {
			continue
		}
		h := &tar.Header{Name: m.name, Mode: 0o644, Uname: "root", Gname: "root", ModTime: o.Time,
			Typeflag: tar.TypeReg, Size: int64(len(m.content))}
		e := archive.Entry{Path: m.name, Content: compress.Text(m.content)}
		if _, err := tarball.Put(ctx, s, h, e); err != nil {
			return err
		}
	}
	for _, f := range files {
		if _, err := tarball.Put(ctx, s, header(f, o), f.Entry); err != nil {
			return err
		}
	}
	if err := tarball.End(s); err != nil {
		return err
	}
	return s.Close()
}

func header(f release.Entry, o archive.Options) *tar.Header {
	h := &tar.Header{Name: f.Path, Mode: int64(archive.UnixMode(f.Mode)), Uname: f.Owner, Gname: f.Group,
		ModTime: o.Time, Typeflag: tar.TypeReg, Size: f.Size}
	switch {
	case f.Mode.IsDir():
		h.Name, h.Typeflag, h.Size = h.Name+"/", tar.TypeDir, 0
	case f.IsLink():
		h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, f.Link, 0
	}
	return h
}

// info is the .PKGINFO file.
func info(p *linuxpkg.Package) (string, error) {
	var b strings.Builder
	field := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s = %s\n", name, strings.ReplaceAll(value, "\n", " "))
		}
	}
	field("pkgname", p.Name)
	field("pkgbase", p.Source)
	field("xdata", "pkgtype=pkg")
	field("pkgver", p.Full())
	field("pkgdesc", p.Summary)
	field("url", p.Homepage)
	field("builddate", fmt.Sprint(p.Time.Unix()))
	field("packager", p.Maintainer)
	field("size", fmt.Sprint(p.InstalledSize()))
	field("arch", p.Arch)
	field("license", p.License)
	for _, r := range []struct {
		name string
		list []linuxpkg.Relation
	}{{"replaces", p.Replaces}, {"conflict", p.Conflicts}, {"provides", p.Provides}} {
		if err := relations(field, r.name, r.list); err != nil {
			return "", err
		}
	}
	for _, f := range p.Files {
		if f.Keep {
			field("backup", f.Path)
		}
	}
	if err := relations(field, "depend", p.Needs); err != nil {
		return "", err
	}
	// pacman knows optional ones only, and shows them all.
	for _, list := range [][]linuxpkg.Relation{p.Recommends, p.Suggests} {
		if err := relations(field, "optdepend", list); err != nil {
			return "", err
		}
	}
	return b.String(), nil
}

// relations writes each as a field.
func relations(field func(name, value string), name string, list []linuxpkg.Relation) error {
	all, err := linuxpkg.WriteAll(Format{}, list)
	for _, r := range all {
		field(name, r)
	}
	return err
}

// buildInfo says what it was made with; nothing in it depends on a machine.
func buildInfo(p *linuxpkg.Package) string {
	return fmt.Sprintf("format = 2\npkgname = %s\npkgbase = %s\npkgver = %s\npkgarch = %s\npackager = "+
		"%s\nbuilddate = %d\nbuilddir = /build\nstartdir = /build\nbuildtool = piedmont\nbuildtoolver = 1\n",
		p.Name, p.Source, p.Full(), p.Arch, p.Maintainer, p.Time.Unix())
}

// install are the functions that pacman calls. Source: PKGBUILD(5), "Install/Upgrade/Remove scripting".
func install(s linuxpkg.Scripts) string {
	var b strings.Builder
	for _, f := range []struct{ name, moment string }{
		{"pre_install", linuxpkg.BeforeInstall}, {"post_install", linuxpkg.AfterInstall},
		{"pre_upgrade", linuxpkg.BeforeUpgrade}, {"post_upgrade", linuxpkg.AfterUpgrade},
		{"pre_remove", linuxpkg.BeforeRemove}, {"post_remove", linuxpkg.AfterRemove},
	} {
		if what := s.At(Format{}, f.moment); what != "" {
			fmt.Fprintf(&b, "%s() {\n%s}\n", f.name, what)
		}
	}
	return b.String()
}

func changelog(p *linuxpkg.Package) string {
	if len(p.Changes) == 0 {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n\n", p.Time.UTC().Format("2006-01-02"), p.Full())
	for _, c := range p.Changes {
		b.WriteString("* " + c + "\n")
	}
	if p.Notes != "" {
		b.WriteString("\n" + p.Notes + "\n")
	}
	return b.String()
}

// mtree lists every file with its properties, compressed.
func mtree(ctx context.Context, p *linuxpkg.Package, about []meta, files []release.Entry, compression string,
	o archive.Options) (string, error) {
	var b strings.Builder
	b.WriteString("#mtree\n/set type=file uid=0 gid=0 mode=644\n")
	seconds := fmt.Sprintf("%d.0", p.Time.Unix())
	for _, m := range about {
		if m.content == "" {
			continue
		}
		md, sh := md5.Sum([]byte(m.content)), sha256.Sum256([]byte(m.content))
		fmt.Fprintf(&b, "./%s time=%s size=%d md5digest=%x sha256digest=%x\n", m.name, seconds, len(m.content), md, sh)
	}
	for _, f := range files {
		fmt.Fprintf(&b, "./%s time=%s", escape(f.Path), seconds)
		if mode := linuxpkg.Unix(f) & 0o7777; mode != 0o644 || f.IsLink() {
			fmt.Fprintf(&b, " mode=%o", mode)
		}
		switch {
		case f.Mode.IsDir():
			b.WriteString(" type=dir\n")
		case f.IsLink():
			fmt.Fprintf(&b, " type=link link=%s\n", escape(f.Link))
		default:
			sum, err := linuxpkg.MD5(ctx, f.Content, compress.Algorithm(compression, o.Options))
			if err != nil {
				return "", err
			}
			fmt.Fprintf(&b, " size=%d md5digest=%s sha256digest=%s\n", f.Size, sum, f.SHA256)
		}
	}
	var out strings.Builder
	s, err := compress.NewStream(&out, "gz", o.Options)
	if err != nil {
		return "", err
	}
	_, err = io.WriteString(s, b.String())
	if closeErr := s.Close(); err == nil {
		err = closeErr
	}
	return out.String(), err
}

// escape writes a path as vis(3) does: what is not plain as three octal digits.
func escape(path string) string {
	var b strings.Builder
	for i := range len(path) {
		c := path[i]
		if c <= ' ' || c >= 0x7f || strings.IndexByte(`\#=*?[]"'`, c) >= 0 {
			fmt.Fprintf(&b, "\\%03o", c)
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}
