package rpm

import (
	"fmt"
	"regexp"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// Format is RPM's.
type Format struct{ linuxpkg.CommonShell }

const name = "rpm"

// Name is the ending of its files.
func (Format) Name() string { return name }

// Layout is that of Fedora, RHEL, SUSE and theirs.
func (Format) Layout() linuxpkg.Layout {
	return linuxpkg.Layout{MediaType: "application/x-rpm", Title: "Fedora, RHEL, openSUSE",
		Install: "sudo dnf install ./",
		Systemd: true, Zsh: "/usr/share/zsh/site-functions/_", Licenses: "/usr/share/licenses/"}
}

// Documents are none beyond what the description names.
func (Format) Documents(*linuxpkg.Package, linuxpkg.Rights) []release.Entry { return nil }

var archs = linuxpkg.Archs{"": "noarch",
	"amd64": "x86_64", "amd64/v2": "x86_64_v2", "amd64/v3": "x86_64_v3", "amd64/v4": "x86_64_v4", "386": "i686",
	"arm64": "aarch64", "arm": "armv7hl", "arm/v7": "armv7hl", "arm/v6": "armv6hl", "arm/v5": "armv5tel",
	"riscv64": "riscv64", "ppc64le": "ppc64le", "ppc64": "ppc64", "s390x": "s390x", "mips64le": "mips64el",
	"mipsle": "mipsel", "mips": "mips", "loong64": "loongarch64", "sparc64": "sparc64"}

// Arch is the name in RPM's rpmrc.
func (Format) Arch(on platform.Platform) (string, error) { return archs.Of(name, on) }

// Version puts "~" before a pre-release: it sorts before the end, since rpm 4.10.
func (Format) Version(v string) (string, error) {
	s, err := linuxpkg.Spell(v)
	if err != nil {
		return "", err
	}
	return s.Joined(name, v, "~")
}

var nameRule = linuxpkg.NameRule{Format: name, Form: regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_+.~-]*$`),
	Rule:   "letters, digits and _ + - . beginning with a letter, digit or _",
	Source: "Fedora Packaging Guidelines, Naming"}

// CheckName holds a name against Fedora's guidelines.
func (Format) CheckName(s string) error { return nameRule.Check(s) }

var revisionForm = regexp.MustCompile(`^[A-Za-z0-9._+~^]+$`)

// CheckRevision holds a release against what rpm takes.
func (Format) CheckRevision(s string) error { return linuxpkg.CheckRevision(name, revisionForm, s) }

// Revision counts from 1.
func (Format) Revision(s string) string { return s }

// Relation writes NAME OP VERSION; alternatives are a rich relation. In the header
// simple ones are records.
func (f Format) Relation(r linuxpkg.Relation) (string, error) {
	parts := make([]string, len(r.Any))
	for i, n := range r.Any {
		parts[i] = n.Name
		if n.Op != "" {
			parts[i] = fmt.Sprintf("%s %s %s", n.Name, n.Op, n.Spelled(f))
		}
	}
	if len(parts) > 1 {
		return "(" + strings.Join(parts, " or ") + ")", nil
	}
	return parts[0], nil
}

// Full is EPOCH:VERSION-RELEASE.
func (Format) Full(p *linuxpkg.Package) string { return p.EpochVersion() }

// FileName is NAME-VERSION-RELEASE.ARCH.rpm.
func (Format) FileName(p *linuxpkg.Package) string {
	return p.Name + "-" + p.Version + "-" + p.Revision + "." + p.Arch + ".rpm"
}

// Needs names the libraries themselves, as rpm's packages provide them, and the
// version of glibc's symbols.
func (Format) Needs(programs []*exe.Info) ([]linuxpkg.Relation, error) {
	var out []linuxpkg.Relation
	for _, i := range programs {
		mark, versioned := "()(64bit)", "(64bit)"
		if i.Bits == 32 {
			mark, versioned = "", ""
		}
		err := linuxpkg.NeededLibraries([]*exe.Info{i}, func(lib string, _ *exe.Info) error {
			out = linuxpkg.AddOnce(out, linuxpkg.Simple(lib+mark, "", ""))
			return nil
		})
		if err != nil {
			return nil, err
		}
		if i.LibcAtLeast != "" {
			out = linuxpkg.AddOnce(out, linuxpkg.Simple("libc.so.6(GLIBC_"+i.LibcAtLeast+")"+versioned, "", ""))
		}
	}
	return out, nil
}
