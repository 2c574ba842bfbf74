package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"piedmont/internal/linuxpkg"
)

// documents go where each distribution wants them.
func (b *packer) documents() {
	doc := "/usr/share/doc/" + b.about.Name + "/"
	for _, page := range b.c.Man {
		text := b.read(page)
		name := strings.TrimSuffix(path.Base(page), ".gz")
		section := strings.TrimPrefix(path.Ext(name), ".")
		if text == "" || section == "" || section[0] < '1' || section[0] > '9' {
			b.failOnce("package %q: %s does not end in a section of the manual, such as .1", b.c.Name, page)
			continue
		}
		to := "/usr/share/man/man" + section[:1] + "/" + name + ".gz"
		if strings.HasSuffix(page, ".gz") {
			b.take(page, to, "0644", Placed{Kind: linuxpkg.KindDoc})
			continue
		}
		b.add(Entry{Path: to, Mode: 0o644}, Placed{Text: text, Gzip: true, Kind: linuxpkg.KindDoc})
	}
	for _, file := range b.c.Docs {
		b.take(file, doc, "0644", Placed{Kind: linuxpkg.KindDoc})
	}
	if b.format != linuxpkg.Deb {
		for _, file := range b.c.Licenses {
			b.take(file, "/usr/share/licenses/"+b.about.Name+"/", "0644", Placed{Kind: linuxpkg.KindLicense})
		}
		return
	}
	b.add(Entry{Path: doc + "copyright", Mode: 0o644}, Placed{Text: b.copyright()})
	if len(b.about.Changes) > 0 {
		b.add(Entry{Path: doc + "changelog.Debian.gz", Mode: 0o644}, Placed{Text: debianChangelog(b.about), Gzip: true})
	}
}

// commonLicenses are those whose text every Debian system has. Source: Debian Policy 12.5.
var commonLicenses = []string{"Apache-2.0", "Artistic", "BSD", "CC0-1.0", "GFDL-1.2", "GFDL-1.3", "GPL-1", "GPL-2", "GPL-3", "LGPL-2", "LGPL-2.1", "LGPL-3", "MPL-1.1", "MPL-2.0"}

// copyright is Debian's machine-readable copyright file, version 1.0.
func (b *packer) copyright() string {
	holder := first(b.c.Copyright, fmt.Sprintf("%d %s", b.plan.Commit.Time.UTC().Year(), b.about.Maintainer))
	var s strings.Builder
	s.WriteString("Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/\nUpstream-Name: " + b.about.Source + "\n")
	if b.about.Homepage != "" {
		s.WriteString("Source: " + b.about.Homepage + "\n")
	}
	short := strings.NewReplacer(" AND ", " and ", " OR ", " or ", "-only", "", "-or-later", "+").Replace(b.about.License)
	fmt.Fprintf(&s, "\nFiles: *\nCopyright: %s\nLicense: %s\n", holder, short)
	plain := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(b.about.License, "-only"), "-or-later"), ".0")
	if b.about.License == "Apache-2.0" || b.about.License == "MPL-2.0" {
		plain = b.about.License
	}
	if slices.Contains(commonLicenses, plain) {
		fmt.Fprintf(&s, " On Debian systems, the full text of this licence is in\n /usr/share/common-licenses/%s.\n", plain)
		return s.String()
	}
	for _, file := range b.c.Licenses {
		for _, line := range strings.Split(strings.TrimSpace(b.read(file)), "\n") {
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
