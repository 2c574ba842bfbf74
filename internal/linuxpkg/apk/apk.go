// Package apk writes and reads packages for apk, in the form of apk-tools 2:
// gzip members one after another, of a tar that is cut off before its end with
// .PKGINFO and the scripts, and of a tar of the files with their SHA-1 in pax
// headers. A signature would be one more member before them. Sources:
// apk-package(5), and the specification of the package format in the Alpine wiki.
package apk

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/format/compress"
	"piedmont/internal/linuxpkg"
)

// Write writes a package; it is always compressed by gzip.
func (Format) Write(ctx context.Context, w io.Writer, p *linuxpkg.Package, _ string, o archive.Options) error {
	o.Time = p.Time
	// .PKGINFO has the digest of the files' member, so that is written aside.
	sum := sha256.New()
	data := compress.NewSpool(sum)
	defer data.Close()
	if err := writeData(ctx, data, p, o); err != nil {
		return err
	}
	text, err := info(p, hex.EncodeToString(sum.Sum(nil)))
	if err != nil {
		return err
	}
	if err := writeControl(ctx, w, p, text, o); err != nil {
		return err
	}
	_, err = data.WriteTo(w)
	return err
}

func writeData(ctx context.Context, w io.Writer, p *linuxpkg.Package, o archive.Options) error {
	s, err := compress.NewStream(w, "gz", o.Options)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }() // an error leaves it open
	for _, f := range linuxpkg.WithFolders(p.Files, true) {
		h := &tar.Header{Name: f.Path, Mode: int64(archive.UnixMode(f.Mode)), Uname: f.Owner, Gname: f.Group,
			ModTime: o.Time, Typeflag: tar.TypeReg, Size: f.Size, Format: tar.FormatPAX}
		switch {
		case f.Mode.IsDir():
			h.Name, h.Typeflag, h.Size = h.Name+"/", tar.TypeDir, 0
		case f.IsLink():
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, f.Link, 0
			sum := sha1.Sum([]byte(f.Link))
			h.PAXRecords = checksum(hex.EncodeToString(sum[:]))
		default:
			sum, err := linuxpkg.SHA1(ctx, f.Content, compress.Deflate)
			if err != nil {
				return err
			}
			h.PAXRecords = checksum(sum)
		}
		if _, err := tarball.Put(ctx, s, h, f.Entry); err != nil {
			return err
		}
	}
	if err := tarball.End(s); err != nil {
		return err
	}
	return s.Close()
}

func checksum(sum string) map[string]string {
	return map[string]string{"APK-TOOLS.checksum.SHA1": sum}
}

// writeControl writes the member with what the package says. It has no end of
// a tar, so that the next member's entries follow.
func writeControl(ctx context.Context, w io.Writer, p *linuxpkg.Package, info string, o archive.Options) error {
	var buf bytes.Buffer
	s, err := compress.NewStream(&buf, "gz", o.Options)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	files := [][2]string{{".PKGINFO", info}}
	for _, script := range [][2]string{
		{".pre-install", linuxpkg.BeforeInstall}, {".post-install", linuxpkg.AfterInstall},
		{".pre-upgrade", linuxpkg.BeforeUpgrade},
		{".post-upgrade", linuxpkg.AfterUpgrade}, {".pre-deinstall", linuxpkg.BeforeRemove},
		{".post-deinstall", linuxpkg.AfterRemove},
	} {
		if what := p.Scripts.At(Format{}, script[1]); what != "" {
			files = append(files, [2]string{script[0], "#!/bin/sh\n" + what})
		}
	}
	for _, f := range files {
		mode := int64(0o755)
		if f[0] == ".PKGINFO" {
			mode = 0o644
		}
		h := &tar.Header{Name: f[0], Mode: mode, Uname: "root", Gname: "root", ModTime: o.Time,
			Typeflag: tar.TypeReg, Size: int64(len(f[1]))}
		e := archive.Entry{Path: f[0], Content: compress.Text(f[1])}
		if _, err := tarball.Put(ctx, s, h, e); err != nil {
			return err
		}
	}
	if err := s.Close(); err != nil {
		return err
	}
	_, err = w.Write(buf.Bytes())
	return err
}

// info is the .PKGINFO file.
func info(p *linuxpkg.Package, dataHash string) (string, error) {
	var b strings.Builder
	field := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s = %s\n", name, strings.ReplaceAll(value, "\n", " "))
		}
	}
	field("pkgname", p.Name)
	field("pkgver", p.Full())
	field("pkgdesc", p.Summary)
	field("url", p.Homepage)
	field("builddate", fmt.Sprint(p.Time.Unix()))
	field("packager", p.Maintainer)
	field("size", fmt.Sprint(p.InstalledSize()))
	field("arch", p.Arch)
	field("origin", p.Source)
	field("maintainer", p.Maintainer)
	field("license", p.License)
	for _, r := range []struct {
		name, mark string
		list       []linuxpkg.Relation
	}{{"replaces", "", p.Replaces}, {"depend", "", p.Needs}, {"depend", "!", p.Conflicts},
		{"provides", "", p.Provides}} {
		list, err := linuxpkg.WriteAll(p.Format, r.list)
		if err != nil {
			return "", err
		}
		for _, one := range list {
			field(r.name, r.mark+one)
		}
	}
	field("datahash", dataHash)
	return b.String(), nil
}
