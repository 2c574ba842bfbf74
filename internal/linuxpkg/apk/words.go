package apk

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// Format is Alpine's.
type Format struct{ linuxpkg.CommonShell }

const name = "apk"

// Name is the ending of its files.
func (Format) Name() string { return name }

// Layout is that of Alpine, which has OpenRC.
func (Format) Layout() linuxpkg.Layout {
	return linuxpkg.Layout{MediaType: "application/gzip", Title: "Alpine", Install: "sudo apk add --allow-untrusted ./",
		Compression: "gz", Zsh: "/usr/share/zsh/site-functions/_", Licenses: "/usr/share/licenses/", KeepBelow: "/etc/"}
}

// Documents are none beyond what the description names.
func (Format) Documents(*linuxpkg.Package, linuxpkg.Rights) []release.Entry { return nil }

var archs = linuxpkg.Archs{"": "noarch",
	"amd64": "x86_64", "386": "x86", "arm64": "aarch64", "arm": "armv7", "arm/v7": "armv7", "arm/v6": "armhf",
	"riscv64": "riscv64", "ppc64le": "ppc64le", "s390x": "s390x", "loong64": "loongarch64"}

// Arch is the name of one of Alpine's ports.
func (Format) Arch(on platform.Platform) (string, error) { return archs.Of(name, on) }

var nameRule = linuxpkg.NameRule{Format: name, Form: regexp.MustCompile(`^[a-z0-9_][a-z0-9_+.-]*$`),
	Rule:   "lower-case letters, digits and _ + - . beginning with a letter, digit or _",
	Source: "apk-package(5)"}

// CheckName holds a name against what apk takes.
func (Format) CheckName(s string) error { return nameRule.Check(s) }

var revisionForm = regexp.MustCompile(`^[0-9]+$`)

// CheckRevision holds a revision against what apk takes.
func (Format) CheckRevision(s string) error { return linuxpkg.CheckRevision(name, revisionForm, s) }

// Revision counts from 0.
func (Format) Revision(s string) string {
	if n, err := strconv.Atoi(s); err == nil {
		return strconv.Itoa(max(0, n-1))
	}
	return s
}

// Relation writes NAMEOPVERSION; there are no alternatives.
func (f Format) Relation(r linuxpkg.Relation) (string, error) { return r.Joined(name, f) }

// Full is VERSION-rREVISION. There is no epoch.
func (Format) Full(p *linuxpkg.Package) string { return p.Version + "-r" + p.Revision }

// FileName is NAME-VERSION-rREVISION.ARCH.apk. In repositories the architecture
// is a folder; a release has none.
func (Format) FileName(p *linuxpkg.Package) string {
	return p.Name + "-" + p.Version + "-r" + p.Revision + "." + p.Arch + ".apk"
}

// Needs names the libraries themselves, as Alpine's packages provide them.
func (Format) Needs(programs []*exe.Info) ([]linuxpkg.Relation, error) {
	var out []linuxpkg.Relation
	err := linuxpkg.NeededLibraries(programs, func(lib string, _ *exe.Info) error {
		out = linuxpkg.AddOnce(out, linuxpkg.Simple("so:"+lib, "", ""))
		return nil
	})
	return out, err
}

// suffixes are the pre-release suffixes of apk in their order; a word that
// begins like one of them becomes it.
var suffixes = []string{"alpha", "beta", "pre", "rc"}

// Version knows one suffix with a number, and for what comes after it "_p",
// which sorts after the same without.
func (Format) Version(v string) (string, error) {
	s, err := linuxpkg.Spell(v)
	if err != nil {
		return "", err
	}
	out := s.Core
	for i := 0; i < len(s.Parts); {
		word, number := s.Parts[i], "0"
		i++
		if i < len(s.Parts) && linuxpkg.IsNumber(s.Parts[i]) {
			number = s.Parts[i]
			i++
		}
		if out != s.Core {
			// What follows the first pair: previews of a candidate count on, and a
			// commit's id and the mark of a changed tree have no rank.
			if word == "preview" {
				out += "_p" + number
			}
			continue
		}
		suffix, digits := suffixOf(word)
		if digits != "" {
			number = digits
		}
		if suffix == "" {
			return "", fmt.Errorf("apk packages cannot carry the version %s: apk knows the pre-releases "+
				"alpha, beta, pre and rc, each with a number, as in 1.4.0-rc.1", v)
		}
		if _, err := strconv.ParseUint(number, 10, 63); err != nil {
			return "", fmt.Errorf("apk packages cannot carry the version %s: %s is too large a number", v, number)
		}
		out += "_" + suffix + number
	}
	return out, nil
}

// suffixOf finds the suffix of a word, and the number of one such as rc1.
func suffixOf(word string) (suffix, number string) {
	for _, s := range suffixes {
		if word == s || (s == "pre" && strings.HasPrefix(word, "pre")) {
			suffix = s
		}
	}
	n := strings.TrimLeft(word, "abcdefghijklmnopqrstuvwxyz")
	if suffix != "" || n == word || n == "" || !linuxpkg.IsNumber(n) {
		return suffix, ""
	}
	for _, s := range suffixes {
		if strings.TrimSuffix(word, n) == s {
			return s, n
		}
	}
	return "", ""
}
