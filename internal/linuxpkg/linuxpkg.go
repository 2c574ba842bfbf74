// Package linuxpkg makes distribution packages from one description: their keys,
// what will be in them, and the steps that pack them. What differs between
// formats, in words and in bytes, is a package for each below this one.
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
	"strconv"
	"strings"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/base/platform"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
	"piedmont/internal/format/exe"
	"piedmont/internal/release"
)

// Format is one package format: its words and its bytes.
type Format interface {
	Name() string // deb, rpm, …
	Layout() Layout
	Words
	Shell
	// Documents are further files that the format wants to be there.
	Documents(p *Package, r Rights) []release.Entry
	// Write writes a package; compression is that of the files.
	Write(ctx context.Context, w io.Writer, p *Package, compression string, o archive.Options) error
	Reader
}

// Words are the names and versions of a format.
type Words interface {
	// Arch names a platform; the zero platform is every one.
	Arch(on platform.Platform) (string, error)
	// Version spells a version so that packages sort as SemVer does.
	Version(v string) (string, error)
	// CheckName says which rule a name breaks, and proposes one.
	CheckName(name string) error
	CheckRevision(revision string) error
	// Revision is how the format counts what the description counts from 1.
	Revision(revision string) string
	// Relation writes a relation as the format has it.
	Relation(r Relation) (string, error)
	// Full is the whole version.
	Full(p *Package) string
	// FileName is the name that the format's own tools give a package.
	FileName(p *Package) string
	// Needs lists what has the libraries that programs need.
	Needs(programs []*exe.Info) ([]Relation, error)
}

// Reader reads packages of a format, of ours or of anybody.
type Reader interface {
	// Sniff says whether a file begins as these packages do.
	Sniff(head []byte) bool
	// Recognize says whether a tar that has such files is such a package.
	Recognize(has func(path string) bool) bool
	// Read tells what a package says and holds; look sees the content of each file.
	Read(ctx context.Context, path string, look func(archive.Entry, io.Reader) error) (*Contents, error)
}

// Layout is where things go in the systems of a format, and how these are called.
type Layout struct {
	MediaType   string
	Title       string // whose packages these are
	Install     string // the command that installs one, before its name
	Compression string // of the files, where there is no choice
	Systemd     bool   // services are systemd units; else they are OpenRC scripts
	Zsh         string // what stands before the name of a completion for zsh
	Licenses    string // the folder for licences; "" when Documents has them
	// OwnersByScript: what belongs to somebody else than root gets its owner by a
	// script; with FoldersByScript, such folders are made by it, too.
	OwnersByScript, FoldersByScript bool
	// KeepBelow is the only folder in which an upgrade keeps what was changed; ""
	// is everywhere.
	KeepBelow string
}

// Rights are who holds the rights, for formats that want it written down.
type Rights struct {
	Holder string
	Texts  func() []string // of the licences
}

// Package is one package in one format for one platform, fully resolved.
type Package struct {
	Format      Format `json:"-"`
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

	Files   []release.Entry // sorted by path, folders before what they hold
	Scripts Scripts
	Changes []string // what is new, a line each
	Notes   string   // address of the release notes
}

// Full is the whole version as the format writes it.
func (p *Package) Full() string { return p.Format.Full(p) }

// EpochVersion is [EPOCH:]VERSION-REVISION, as most formats write it.
func (p *Package) EpochVersion() string {
	v := p.Version + "-" + p.Revision
	if p.Epoch > 0 {
		v = strconv.Itoa(p.Epoch) + ":" + v
	}
	return v
}

// FileName is the name that the format's own tools give the package.
func (p *Package) FileName() string { return p.Format.FileName(p) }

// Unix gives an entry's mode as a Unix system writes it, with the type of file.
func Unix(e release.Entry) uint32 {
	switch {
	case e.Mode.IsDir():
		return archive.UnixMode(e.Mode) | 0o040000
	case e.IsLink():
		return 0o120777
	}
	return archive.UnixMode(e.Mode) | 0o100000
}

// MD5 is a file's digest for the formats whose databases still keep that one. It
// is taken where the file is compressed, if the package takes cached bytes of that
// algorithm; else the file is read.
func MD5(ctx context.Context, c compress.Content, algorithm string) (string, error) {
	return digest(ctx, c, algorithm, md5.New(), func(f *compress.Fragment) string { return f.MD5 })
}

// SHA1 is a file's digest for the format that keeps that one, taken as MD5 is.
func SHA1(ctx context.Context, c compress.Content, algorithm string) (string, error) {
	return digest(ctx, c, algorithm, sha1.New(), func(f *compress.Fragment) string { return f.SHA1 })
}

func digest(ctx context.Context, c compress.Content, algorithm string, h hash.Hash,
	of func(*compress.Fragment) string) (string, error) {
	cached, err := c.Fragment(ctx, algorithm)
	if err != nil {
		return "", err
	}
	if cached != nil && of(cached) != "" {
		return of(cached), nil
	}
	r, err := c.Open()
	if err != nil {
		return "", err
	}
	defer func() { _ = r.Close() }()
	if _, err := io.CopyBuffer(h, fileio.Reader(ctx, r), make([]byte, min(256<<10, c.Size+1))); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), ctx.Err()
}

// InstalledSize is what the files take on a disk, in bytes.
func (p *Package) InstalledSize() int64 {
	var sum int64
	for _, f := range p.Files {
		if f.Planned() {
			sum += f.Size
		}
	}
	return sum
}

// Folder is an entry for a folder of root's.
func Folder(path string) release.Entry {
	e := release.Entry{}
	e.Path, e.Mode, e.Owner, e.Group = path, fs.ModeDir|0o755, "root", "root"
	return e
}

// Written is an entry for a file of root's whose content is a text.
func Written(path, text string) release.Entry {
	e := release.Entry{From: release.Origin{Text: text}}
	e.Path, e.Mode, e.Owner, e.Group = path, 0o644, "root", "root"
	return e
}

// WithFolders adds the folders that the files are in and that are not named,
// and sorts. Folders that every system has are left to it, but for formats
// that list them anyway.
func WithFolders(files []release.Entry, all bool) []release.Entry {
	out := slices.Clone(files)
	have := map[string]bool{}
	for _, f := range files {
		have[f.Path] = true
	}
	for _, f := range files {
		for dir := parent(f.Path); dir != ""; dir = parent(dir) {
			if have[dir] || (!all && slices.Contains(systemFolders, dir)) {
				continue
			}
			have[dir] = true
			out = append(out, Folder(dir))
		}
	}
	slices.SortFunc(out, func(a, b release.Entry) int { return strings.Compare(a.Path, b.Path) })
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
	bin boot dev etc etc/init.d etc/conf.d etc/opt home lib lib64 media mnt opt proc root run sbin srv sys tmp
	usr usr/bin usr/games usr/include usr/lib usr/lib64 usr/libexec usr/local usr/sbin usr/share
	usr/share/applications usr/share/bash-completion usr/share/bash-completion/completions
	usr/share/doc usr/share/fish usr/share/fish/vendor_completions.d usr/share/icons usr/share/icons/hicolor
	usr/share/info usr/share/licenses usr/share/man usr/share/man/man1 usr/share/man/man2 usr/share/man/man3
	usr/share/man/man4 usr/share/man/man5 usr/share/man/man6 usr/share/man/man7 usr/share/man/man8 usr/share/misc
	usr/share/zsh usr/share/zsh/site-functions usr/share/zsh/vendor-completions usr/src
	usr/lib/systemd usr/lib/systemd/system usr/lib/systemd/user usr/lib/sysusers.d usr/lib/tmpfiles.d usr/lib/udev
	usr/lib/udev/rules.d var var/cache var/lib var/lock var/log var/mail var/opt var/run var/spool var/tmp`)
