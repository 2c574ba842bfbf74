// Package linuxpkg is what a distribution package says, whatever its format:
// names, versions, relations, files, scripts. The writers in internal/pack turn
// it into bytes; what differs between formats in words is decided here.
package linuxpkg

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"encoding/hex"
	"hash"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"piedmont/internal/format/archive"
)

// Formats of packages.
const (
	Deb  = "deb"
	RPM  = "rpm"
	APK  = "apk"
	Arch = "arch"
)

// Formats lists them.
var Formats = []string{Deb, RPM, APK, Arch}

// Package is one package in one format for one platform, fully resolved.
type Package struct {
	Format      string
	Name        string
	Epoch       int
	Version     string // in the format's spelling
	Revision    string
	Arch        string // in the format's words
	Summary     string // one line
	Description string // further paragraphs, "" for none
	License     string // an SPDX expression
	Homepage    string
	Maintainer  string // Name <address>
	Section     string
	Source      string // the project's name
	Time        time.Time

	Needs, Recommends, Suggests, Conflicts, Replaces, Provides []Relation

	Files   []File // sorted by path, folders before what they hold
	Scripts Scripts
	Changes []string // what is new, a line each
	Notes   string   // address of the release notes
}

// File is a file, folder or symbolic link of a package.
type File struct {
	Path         string      // without the leading slash
	Mode         fs.FileMode // permissions with setuid, setgid and sticky; ModeDir for folders
	Owner, Group string
	Link         string // the target of a symbolic link
	Size         int64
	SHA256       string
	Keep         bool // an upgrade does not overwrite what an administrator changed
	Kind         string
	archive.Source
}

// Kinds of files that some formats mark.
const (
	KindDoc     = "doc"
	KindLicense = "license"
)

// Dir says whether it is a folder.
func (f File) Dir() bool { return f.Mode.IsDir() }

// Unix gives the mode as a Unix system writes it, with the type of file.
func (f File) Unix() uint32 {
	m := uint32(f.Mode.Perm())
	for bit, flag := range map[fs.FileMode]uint32{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if f.Mode&bit != 0 {
			m |= flag
		}
	}
	switch {
	case f.Dir():
		return m | 0o040000
	case f.Link != "":
		return 0o120777
	}
	return m | 0o100000
}

// Entry is the file as archives take it.
func (f File) Entry() archive.Entry {
	return archive.Entry{Path: f.Path, Mode: f.Mode, Size: f.Size, Link: f.Link, SHA256: f.SHA256, Source: f.Source}
}

// MD5 is a file's digest for the formats whose databases still keep that one. It
// is taken where the file is compressed, if the package takes kept pieces of that
// algorithm; else the file is read.
func MD5(ctx context.Context, f File, algorithm string) (string, error) {
	return digest(ctx, f, algorithm, md5.New(), func(c *archive.Compressed) string { return c.MD5 })
}

// SHA1 is a file's digest for the format that keeps that one, taken as MD5 is.
func SHA1(ctx context.Context, f File, algorithm string) (string, error) {
	return digest(ctx, f, algorithm, sha1.New(), func(c *archive.Compressed) string { return c.SHA1 })
}

func digest(ctx context.Context, f File, algorithm string, h hash.Hash, of func(*archive.Compressed) string) (string, error) {
	kept, err := f.Entry().Kept(ctx, algorithm)
	if err != nil {
		return "", err
	}
	if kept != nil && of(kept) != "" {
		return of(kept), nil
	}
	r, err := f.Open()
	if err != nil {
		return "", err
	}
	defer func() { _ = r.Close() }()
	if _, err := io.CopyBuffer(h, struct{ io.Reader }{r}, make([]byte, min(256<<10, f.Size+1))); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), ctx.Err()
}

// InstalledSize is what the files take on a disk with blocks of 1 KiB, in bytes.
func (p *Package) InstalledSize() int64 {
	var sum int64
	for _, f := range p.Files {
		if !f.Dir() && f.Link == "" {
			sum += f.Size
		}
	}
	return sum
}

// Full is the whole version as the format writes it.
func (p *Package) Full() string {
	v := p.Version
	switch p.Format {
	case APK:
		return v + "-r" + p.Revision
	case Deb, Arch, RPM:
		v += "-" + p.Revision
	}
	if p.Epoch > 0 && p.Format != APK {
		v = itoa(p.Epoch) + ":" + v
	}
	return v
}

// FileName is the name that the format's own tools give a package.
func (p *Package) FileName() string {
	switch p.Format {
	case Deb:
		return p.Name + "_" + p.Version + "-" + p.Revision + "_" + p.Arch + ".deb"
	case RPM:
		return p.Name + "-" + p.Version + "-" + p.Revision + "." + p.Arch + ".rpm"
	case APK:
		// The architecture is a folder in repositories; a release has none.
		return p.Name + "-" + p.Version + "-r" + p.Revision + "." + p.Arch + ".apk"
	}
	return p.Name + "-" + p.Version + "-" + p.Revision + "-" + p.Arch + ".pkg.tar.zst"
}

// WithFolders adds the folders that the files are in and that are not named,
// and sorts. Folders that every system has are left to it, but for formats
// that list them anyway.
func WithFolders(files []File, all bool) []File {
	out := slices.Clone(files)
	have := map[string]bool{}
	for _, f := range files {
		have[f.Path] = true
	}
	for _, f := range files {
		for dir := parent(f.Path); dir != ""; dir = parent(dir) {
			if have[dir] || (!all && systemFolder(dir)) {
				continue
			}
			have[dir] = true
			out = append(out, File{Path: dir, Mode: fs.ModeDir | 0o755, Owner: "root", Group: "root"})
		}
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return out
}

func parent(path string) string {
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		return path[:i]
	}
	return ""
}

// systemFolders belong to the base of a system; a package that owned them could
// change their mode. Source: Filesystem Hierarchy Standard 3.0.
var systemFolders = strings.Fields(`
	bin boot dev etc etc/init.d etc/conf.d etc/opt home lib lib64 media mnt opt proc root run sbin srv sys tmp usr usr/bin usr/games usr/include
	usr/lib usr/lib64 usr/libexec usr/local usr/sbin usr/share usr/share/applications usr/share/bash-completion usr/share/bash-completion/completions
	usr/share/doc usr/share/fish usr/share/fish/vendor_completions.d usr/share/icons usr/share/icons/hicolor usr/share/info usr/share/licenses
	usr/share/man usr/share/man/man1 usr/share/man/man2 usr/share/man/man3 usr/share/man/man4 usr/share/man/man5 usr/share/man/man6
	usr/share/man/man7 usr/share/man/man8 usr/share/misc usr/share/zsh usr/share/zsh/site-functions usr/share/zsh/vendor-completions usr/src
	usr/lib/systemd usr/lib/systemd/system usr/lib/systemd/user usr/lib/sysusers.d usr/lib/tmpfiles.d usr/lib/udev usr/lib/udev/rules.d
	var var/cache var/lib var/lock var/log var/mail var/opt var/run var/spool var/tmp`)

func systemFolder(path string) bool { return slices.Contains(systemFolders, path) }
