package deb

import (
	"fmt"
	"regexp"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
	"piedmont/internal/linuxpkg"
)

// Format is Debian's.
type Format struct{ linuxpkg.CommonShell }

const name = "deb"

// Name is the ending of its files.
func (Format) Name() string { return name }

// Layout is that of Debian and its kin.
func (Format) Layout() linuxpkg.Layout {
	return linuxpkg.Layout{MediaType: "application/vnd.debian.binary-package", Title: "Debian, Ubuntu",
		Install: "sudo apt install ./",
		Systemd: true, Zsh: "/usr/share/zsh/vendor-completions/_", OwnersByScript: true}
}

var archs = linuxpkg.Archs{"": "all",
	"amd64": "amd64", "386": "i386", "arm64": "arm64", "arm": "armhf", "arm/v7": "armhf", "arm/v6": "armhf",
	"arm/v5": "armel", "riscv64": "riscv64", "ppc64le": "ppc64el", "ppc64": "ppc64", "s390x": "s390x",
	"mips64le": "mips64el", "mipsle": "mipsel", "mips": "mips", "loong64": "loong64", "sparc64": "sparc64"}

// Arch is the name of one of Debian's ports.
func (Format) Arch(on platform.Platform) (string, error) { return archs.Of(name, on) }

// Version puts "~" before a pre-release: it sorts before the end.
func (Format) Version(v string) (string, error) {
	s, err := linuxpkg.Spell(v)
	if err != nil {
		return "", err
	}
	return s.Joined(name, v, "~")
}

var nameRule = linuxpkg.NameRule{Format: name, Form: regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+$`),
	Rule:   "two or more lower-case letters, digits and + - . beginning with a letter or digit",
	Source: "Debian Policy 5.6.1"}

// CheckName holds a name against Debian Policy.
func (Format) CheckName(s string) error { return nameRule.Check(s) }

var revisionForm = regexp.MustCompile(`^[A-Za-z0-9+.~]+$`)

// CheckRevision holds a revision against Debian Policy.
func (Format) CheckRevision(s string) error { return linuxpkg.CheckRevision(name, revisionForm, s) }

// Revision counts from 1.
func (Format) Revision(s string) string { return s }

// Relation writes NAME (OP VERSION). Source: Debian Policy 7.1.
func (f Format) Relation(r linuxpkg.Relation) (string, error) {
	parts := make([]string, len(r.Any))
	for i, n := range r.Any {
		parts[i] = n.Name
		if op := n.Op; op != "" {
			if op == "<" || op == ">" {
				op += op
			}
			parts[i] = fmt.Sprintf("%s (%s %s)", n.Name, op, n.Spelled(f))
		}
	}
	return strings.Join(parts, " | "), nil
}

// Full is EPOCH:VERSION-REVISION.
func (Format) Full(p *linuxpkg.Package) string { return p.EpochVersion() }

// FileName is NAME_VERSION-REVISION_ARCH.deb.
func (Format) FileName(p *linuxpkg.Package) string {
	return p.Name + "_" + p.Version + "-" + p.Revision + "_" + p.Arch + ".deb"
}

// Needs names Debian's packages of libraries, glibc's with the version it must have.
func (Format) Needs(programs []*exe.Info) ([]linuxpkg.Relation, error) {
	var out []linuxpkg.Relation
	err := linuxpkg.NeededLibraries(programs, func(lib string, i *exe.Info) error {
		pkg := linuxpkg.DebianLibrary(lib)
		switch {
		case lib == "libc.so.6" && i.LibcAtLeast != "":
			out = linuxpkg.AddOnce(out, linuxpkg.Simple("libc6", ">=", i.LibcAtLeast))
		case pkg == "":
			return linuxpkg.UnknownLibrary(name, lib)
		case pkg != "libc6" || i.LibcAtLeast == "":
			out = linuxpkg.AddOnce(out, linuxpkg.Simple(pkg, "", ""))
		}
		return nil
	})
	return out, err
}
