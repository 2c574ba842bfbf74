package alpm

import (
	"regexp"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// Format is pacman's.
type Format struct{ linuxpkg.CommonShell }

const name = "arch"

// Name is that of the distribution.
func (Format) Name() string { return name }

// Layout is that of Arch Linux. pacman takes owners by number, and those differ
// from system to system: a script gives them.
func (Format) Layout() linuxpkg.Layout {
	return linuxpkg.Layout{MediaType: "application/zstd", Title: "Arch Linux", Install: "sudo pacman -U ./",
		Compression: "zst",
		Systemd:     true, Zsh: "/usr/share/zsh/site-functions/_", Licenses: "/usr/share/licenses/",
		OwnersByScript: true, FoldersByScript: true}
}

// Documents are none beyond what the description names.
func (Format) Documents(*linuxpkg.Package, linuxpkg.Rights) []release.Entry { return nil }

var archs = linuxpkg.Archs{"": "any",
	"amd64": "x86_64", "amd64/v2": "x86_64_v2", "amd64/v3": "x86_64_v3", "amd64/v4": "x86_64_v4", "386": "i686",
	"arm64": "aarch64", "arm": "armv7h", "arm/v7": "armv7h", "arm/v6": "armv6h", "riscv64": "riscv64",
	"ppc64le": "powerpc64le", "loong64": "loong64"}

// Arch is the name of one of Arch's ports.
func (Format) Arch(on platform.Platform) (string, error) { return archs.Of(name, on) }

// Version puts a pre-release at the end: letters sort before it.
func (Format) Version(v string) (string, error) {
	s, err := linuxpkg.Spell(v)
	if err != nil {
		return "", err
	}
	return s.Joined(name, v, "")
}

var nameRule = linuxpkg.NameRule{Format: name, Form: regexp.MustCompile(`^[a-z0-9@_+][a-z0-9@._+-]*$`),
	Rule:   "lower-case letters, digits and @ . _ + - not beginning with a hyphen or dot",
	Source: "PKGBUILD(5)"}

// CheckName holds a name against what pacman takes.
func (Format) CheckName(s string) error { return nameRule.Check(s) }

var revisionForm = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?$`)

// CheckRevision holds a release against what pacman takes.
func (Format) CheckRevision(s string) error { return linuxpkg.CheckRevision(name, revisionForm, s) }

// Revision counts from 1.
func (Format) Revision(s string) string { return s }

// Relation writes NAMEOPVERSION; there are no alternatives.
func (f Format) Relation(r linuxpkg.Relation) (string, error) { return r.Joined(name, f) }

// Full is EPOCH:VERSION-RELEASE.
func (Format) Full(p *linuxpkg.Package) string { return p.EpochVersion() }

// FileName is NAME-VERSION-RELEASE-ARCH.pkg.tar.zst.
func (Format) FileName(p *linuxpkg.Package) string {
	return p.Name + "-" + p.Version + "-" + p.Revision + "-" + p.Arch + ".pkg.tar.zst"
}

// Needs names Arch's packages of libraries.
func (Format) Needs(programs []*exe.Info) ([]linuxpkg.Relation, error) {
	var out []linuxpkg.Relation
	err := linuxpkg.NeededLibraries(programs, func(lib string, _ *exe.Info) error {
		pkg := linuxpkg.ArchLibrary(lib)
		if pkg == "" {
			return linuxpkg.UnknownLibrary(name, lib)
		}
		out = linuxpkg.AddOnce(out, linuxpkg.Simple(pkg, "", ""))
		return nil
	})
	return out, err
}
