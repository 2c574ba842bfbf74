package deb

import (
	"fmt"
	"strings"

	"piedmont/internal/linuxpkg"
)

// control is the control file. Source: deb-control(5).
func control(p *linuxpkg.Package) (string, error) {
	var b strings.Builder
	field := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s: %s\n", name, value)
		}
	}
	field("Package", p.Name)
	if p.Source != p.Name {
		field("Source", p.Source)
	}
	field("Version", p.Full())
	field("Architecture", p.Arch)
	field("Maintainer", p.Maintainer)
	field("Installed-Size", fmt.Sprint(installedSize(p)))
	if len(p.Scripts.Users) > 0 {
		field("Pre-Depends", "passwd") // accounts are there before files that belong to them
	}
	for _, r := range []struct {
		name string
		list []linuxpkg.Relation
	}{{"Depends", p.Needs}, {"Recommends", p.Recommends}, {"Suggests", p.Suggests}, {"Conflicts", p.Conflicts},
		{"Replaces", p.Replaces}, {"Provides", p.Provides}} {
		list, err := linuxpkg.WriteAll(p.Format, r.list)
		if err != nil {
			return "", err
		}
		field(r.name, strings.Join(list, ", "))
	}
	section := p.Section
	if section == "" {
		section = "misc"
	}
	field("Section", section)
	field("Priority", "optional")
	field("Homepage", p.Homepage)
	b.WriteString("Description: " + p.Summary + "\n" + paragraphs(p.Description))
	return b.String(), nil
}

// paragraphs writes a long description: each line begins with a space, an empty
// one is " .", and one that is indented or begins with a dot is kept as it is.
// Source: Debian Policy 5.6.13.
func paragraphs(text string) string {
	var b strings.Builder
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		line = strings.TrimRight(line, " \t\r")
		switch {
		case line == "" && b.Len() == 0:
		case line == "":
			b.WriteString(" .\n")
		case line[0] == '.':
			b.WriteString("  " + line + "\n") // " ." and a word would be reserved
		default:
			b.WriteString(" " + line + "\n")
		}
	}
	return b.String()
}

// installedSize is in units of 1024 bytes, each file rounded up and each
// folder counted as one. Source: deb-substvars(5).
func installedSize(p *linuxpkg.Package) int64 {
	var sum int64
	for _, f := range linuxpkg.WithFolders(p.Files, true) {
		if !f.Planned() {
			sum++
			continue
		}
		sum += (f.Size + 1023) / 1024
	}
	return sum
}

// maintainerScript writes one of dpkg's four scripts, "" for none. Which of them
// runs with what is written in Debian Policy 6.5.
func maintainerScript(s linuxpkg.Scripts, name string) string {
	type branch struct{ when, what string }
	var branches []branch
	at := func(moment string) string { return s.At(Format{}, moment) }
	switch name {
	case "preinst":
		fresh, upgrade := at(linuxpkg.BeforeInstall), at(linuxpkg.BeforeUpgrade)
		if fresh == upgrade && fresh != "" {
			return "#!/bin/sh\nset -e\nif [ \"$1\" = install ] || [ \"$1\" = upgrade ]; then\n" + fresh + "fi\n"
		}
		branches = []branch{{"install", fresh}, {"upgrade", upgrade}}
	case "postinst":
		// "configure" with a version is an upgrade from it.
		fresh, upgrade := at(linuxpkg.AfterInstall), at(linuxpkg.AfterUpgrade)
		if fresh+upgrade != "" {
			branches = []branch{{"configure", "if [ -z \"$2\" ]; then\n" + orNothing(fresh) + "else\n" +
				orNothing(upgrade) + "fi\n"}}
		}
	case "prerm":
		branches = []branch{{"remove", at(linuxpkg.BeforeRemove)}}
	case "postrm":
		branches = []branch{{"remove", at(linuxpkg.AfterRemove)}}
		for _, u := range s.Units {
			branches = append(branches, branch{"purge", fmt.Sprintf("if command -v deb-systemd-helper "+
				">/dev/null 2>&1; then\n\tdeb-systemd-helper purge %[1]s >/dev/null || true\nfi\n", u)})
		}
	}
	var b strings.Builder
	for _, br := range branches {
		if br.what != "" {
			fmt.Fprintf(&b, "if [ \"$1\" = %s ]; then\n%sfi\n", br.when, br.what)
		}
	}
	if b.Len() == 0 {
		return ""
	}
	return "#!/bin/sh\nset -e\n" + b.String()
}

func orNothing(text string) string {
	if text == "" {
		return ":\n"
	}
	return text
}
