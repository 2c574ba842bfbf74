package deb

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// Documents are the copyright file and the changelog, which Debian Policy 12 wants.
func (Format) Documents(p *linuxpkg.Package, r linuxpkg.Rights) []release.Entry {
	doc := "usr/share/doc/" + p.Name + "/"
	out := []release.Entry{linuxpkg.Written(doc+"copyright", copyright(p, r))}
	if len(p.Changes) > 0 {
		log := linuxpkg.Written(doc+"changelog.Debian.gz", debianChangelog(p))
		log.From.Gzip = true
		out = append(out, log)
	}
	return out
}

// commonLicenses are those whose text every Debian system has. Source: Debian Policy 12.5.
var commonLicenses = []string{"Apache-2.0", "Artistic", "BSD", "CC0-1.0", "GFDL-1.2", "GFDL-1.3", "GPL-1",
	"GPL-2", "GPL-3",
	"LGPL-2", "LGPL-2.1", "LGPL-3", "MPL-1.1", "MPL-2.0"}

// copyright is Debian's machine-readable copyright file, version 1.0.
func copyright(p *linuxpkg.Package, r linuxpkg.Rights) string {
	holder := r.Holder
	if holder == "" {
		holder = fmt.Sprintf("%d %s", p.Time.UTC().Year(), p.Maintainer)
	}
	var s strings.Builder
	s.WriteString("Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/\n" +
		"Upstream-Name: " + p.Source + "\n")
	if p.Homepage != "" {
		s.WriteString("Source: " + p.Homepage + "\n")
	}
	short := strings.NewReplacer(" AND ", " and ", " OR ", " or ", "-only", "", "-or-later", "+").Replace(p.License)
	fmt.Fprintf(&s, "\nFiles: *\nCopyright: %s\nLicense: %s\n", holder, short)
	plain := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(p.License, "-only"), "-or-later"), ".0")
	if p.License == "Apache-2.0" || p.License == "MPL-2.0" {
		plain = p.License
	}
	if slices.Contains(commonLicenses, plain) {
		fmt.Fprintf(&s, " On Debian systems, the full text of this licence is in\n "+
			"/usr/share/common-licenses/%s.\n", plain)
		return s.String()
	}
	for _, text := range r.Texts() {
		for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
			if line = strings.TrimRight(line, " \t\r"); line == "" {
				line = "."
			}
			s.WriteString(" " + line + "\n")
		}
	}
	return s.String()
}

// debianChangelog is written as deb-changelog(5) says.
func debianChangelog(p *linuxpkg.Package) string {
	var s strings.Builder
	fmt.Fprintf(&s, "%s (%s) unstable; urgency=medium\n\n", p.Source, p.Full())
	for _, c := range p.Changes {
		s.WriteString("  * " + strings.Join(wrap(c, 74), "\n    ") + "\n")
	}
	if p.Notes != "" {
		s.WriteString("  * Release notes: " + strings.Join(wrap(p.Notes, 58), "\n    ") + "\n")
	}
	fmt.Fprintf(&s, "\n -- %s  %s\n", p.Maintainer, p.Time.UTC().Format("Mon, 02 Jan 2006 15:04:05 +0000"))
	return s.String()
}

// wrap breaks a text between words into lines of at most so many bytes, where
// words allow that.
func wrap(text string, width int) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len(line)+1+len(word) > width {
			out = append(out, line)
			line = ""
		}
		line = strings.TrimSpace(line + " " + word)
	}
	return append(out, line)
}
