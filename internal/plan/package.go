package plan

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/distpkg"
	"piedmont/internal/platform"
	"piedmont/internal/version"
)

// Package is one distribution package.
type Package struct {
	File        string          `json:"file"`
	Table       string          `json:"package"` // the NAME of [package.NAME]
	Format      string          `json:"format"`
	Platform    string          `json:"platform,omitempty"`
	Name        string          `json:"name"`
	Version     string          `json:"version"` // the whole one, as the format has it
	Arch        string          `json:"arch"`
	Compression string          `json:"compression"`
	Entries     []Placed        `json:"entries"`
	AutoNeeds   bool            `json:"auto_needs,omitempty"`
	About       distpkg.Package `json:"-"` // everything but the files
}

// Placed is an entry of a package, with what archives do not have.
type Placed struct {
	Entry
	Owner string `json:"owner"`
	Group string `json:"group"`
	Dir   bool   `json:"dir,omitempty"`
	Keep  bool   `json:"keep,omitempty"`
	Kind  string `json:"kind,omitempty"` // doc or license
	Text  string `json:"text,omitempty"` // the content, where it is made here
	Gzip  bool   `json:"gzip,omitempty"` // the content is compressed
}

// packages plans every package for each of its formats and platforms.
func (p *planner) packages() {
	for _, c := range p.c.Packages {
		platforms := []platform.Platform{{}}
		if len(c.Programs)+len(c.Trees) > 0 {
			all, ok := p.commonPlatforms(owner{"package", c.Name}, c.Programs, c.Trees, c.Platforms)
			if !ok {
				continue
			}
			// Without a choice, a package is for the Linux platforms of its programs.
			platforms = slices.DeleteFunc(all, func(on platform.Platform) bool {
				return on.OS != "linux" && len(c.Platforms.Given) == 0
			})
			if len(platforms) == 0 {
				p.fail("package %q: none of its programs is made for Linux", c.Name)
			}
		}
		for _, on := range platforms {
			for _, format := range c.Formats {
				p.pkg(c, format, on)
			}
		}
	}
}

func (p *planner) pkg(c *config.Package, format string, on platform.Platform) {
	say := func(err error) { p.failOnce("package %q: %v", c.Name, err) }
	arch, err := distpkg.ArchOf(format, on)
	if err != nil {
		say(err)
		return
	}
	spelled, err := version.Spell(format, p.plan.Version)
	if err != nil {
		say(err)
		return
	}
	about := distpkg.Package{Format: format, Name: c.Called, Epoch: c.Epoch, Version: spelled, Revision: c.RevisionOf(format), Arch: arch, Summary: first(c.Summary, p.c.Project.Summary),
		Description: c.Description, License: first(c.License, p.c.Project.License), Homepage: first(c.Homepage, p.c.Project.Homepage), Maintainer: first(c.Maintainer, p.c.Project.Maintainer),
		Section: c.Section, Source: p.c.Project.Name, Time: p.plan.Commit.Time, Changes: changes(p.f.Notes), Notes: p.fill(p.c.Project.Releases, p.values())}
	o := c.Of(format)
	about.Name, about.Section = first(o.Name, about.Name), first(o.Section, about.Section)
	if about.License == "" {
		p.failOnce("package %q: it says no licence; give it or [project] a \"license\"", c.Name)
	}
	pkg := Package{Table: c.Name, Format: format, Name: about.Name, Arch: arch, Compression: compressionOf(format, c.Compression)}
	if on.OS != "" {
		pkg.Platform = on.String()
	}
	for _, r := range []struct {
		into         *[]distpkg.Relation
		list, second []string
	}{{&about.Needs, c.Needs, o.Needs}, {&about.Recommends, c.Recommends, o.Recommends}, {&about.Suggests, c.Suggests, o.Suggests},
		{&about.Conflicts, c.Conflicts, o.Conflicts}, {&about.Replaces, c.Replaces, o.Replaces}, {&about.Provides, c.Provides, o.Provides}} {
		list := r.list
		if r.second != nil {
			list = r.second
		}
		for _, text := range list {
			if text == "auto" {
				pkg.AutoNeeds = true
				continue
			}
			if one, err := distpkg.ParseRelation(text); err == nil {
				*r.into = append(*r.into, one)
			}
		}
	}
	b := &packer{planner: p, c: c, format: format, on: on, about: &about}
	if pkg.Entries = b.entries(); pkg.Entries == nil && len(p.errors) > 0 {
		return
	}
	pkg.About, pkg.Version, pkg.File = about, about.Full(), about.FileName()
	p.plan.Packages = append(p.plan.Packages, pkg)
	p.file(pkg.File, KindPackage, pkg.Platform, fmt.Sprintf("%s: %s package", c.Name, format))
}

func first(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

// compressionOf is that of the files: gz is shared with the archives.
func compressionOf(format, declared string) string {
	switch {
	case format == distpkg.APK:
		return "gz"
	case format == distpkg.Arch:
		return "zst"
	case declared != "":
		return declared
	}
	return "gz"
}

// changes are the items of lists in the notes, as plain lines.
func changes(notes string) []string {
	var out []string
	for _, line := range strings.Split(notes, "\n") {
		item, ok := strings.CutPrefix(line, "- ")
		if !ok {
			continue
		}
		item = strings.NewReplacer("**", "", "`", "").Replace(item)
		if at := strings.LastIndex(item, " (["); at > 0 { // the link to a commit
			item = item[:at]
		}
		out = append(out, strings.TrimSpace(item))
	}
	return out
}

// packer collects the entries of one package.
type packer struct {
	*planner
	c      *config.Package
	format string
	on     platform.Platform
	about  *distpkg.Package
	list   []Placed
}

func (b *packer) add(e Entry, more Placed) {
	more.Entry = e
	more.Path = strings.Trim(path.Clean(more.Path), "/")
	if more.Owner == "" {
		more.Owner = "root"
	}
	if more.Group == "" {
		more.Group = "root"
	}
	more.Octal = fmt.Sprintf("%04o", unixMode(more.Mode))
	b.list = append(b.list, more)
}

// entries are those of the package, sorted.
func (b *packer) entries() []Placed {
	for _, name := range b.c.Programs {
		build, out, ok := b.buildOf(name, b.on)
		if !ok {
			return nil
		}
		if out.File == "" {
			b.failOnce("package %q: the program %s has no single file; say which with \"file\" in [program.%s]", b.c.Name, name, name)
			return nil
		}
		b.add(Entry{Path: path.Join(b.c.Bin, path.Base(out.File)), Mode: 0o755, Build: build.ID, Output: out.File}, Placed{})
	}
	for _, t := range b.c.Trees {
		if build, _, ok := b.buildOf(t.Program, b.on); ok {
			from, to := path.Join(".", t.From), t.To
			if to == "" && t.From != "" {
				to = t.From
			}
			b.add(Entry{Path: "/" + to, Tree: true, Build: build.ID, From: from}, Placed{})
		}
	}
	for _, f := range b.c.Files {
		b.take(f.From, f.To, f.Mode, Placed{Owner: f.Owner, Group: f.Group, Keep: f.Keep})
	}
	for _, f := range b.c.Folders {
		b.add(Entry{Path: f.To, Mode: fs.ModeDir | parseMode(f.Mode, 0o755)}, Placed{Owner: f.Owner, Group: f.Group, Dir: true})
	}
	for _, at := range slices.Sorted(maps.Keys(b.c.Links)) {
		b.add(Entry{Path: at, Mode: 0o777, Link: b.c.Links[at]}, Placed{})
	}
	b.services()
	b.documents()
	b.extras()
	b.scripts()
	return b.sorted()
}

// take takes files of the project.
func (b *packer) take(from, to, mode string, more Placed) {
	if to == "" || from == "" {
		return
	}
	for _, e := range b.rule(owner{"package", b.c.Name}, config.Rule{From: from, To: strings.TrimPrefix(to, "/")}) {
		if mode != "" {
			e.Mode = parseMode(mode, 0o644)
		}
		b.add(e, more)
	}
}

// parseMode reads octal digits with setuid, setgid and sticky.
func parseMode(text string, without fs.FileMode) fs.FileMode {
	n, err := strconv.ParseUint(text, 8, 12)
	if err != nil {
		return without
	}
	m := fs.FileMode(n & 0o777)
	for bit, flag := range map[uint64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if n&bit != 0 {
			m |= flag
		}
	}
	return m
}

func unixMode(m fs.FileMode) uint32 { return distpkg.File{Mode: m}.Unix() & 0o7777 }

func (b *packer) services() {
	for _, unit := range b.c.Service {
		text := b.read(unit)
		if text == "" {
			continue
		}
		if !strings.Contains("\n"+text, "\n[Install]") {
			b.failOnce("package %q: the unit %s has no section [Install], so nothing could enable it; add one such as\n  [Install]\n  WantedBy=multi-user.target", b.c.Name, unit)
		}
		if b.format == distpkg.APK {
			continue // Alpine has no systemd
		}
		b.take(unit, "/usr/lib/systemd/system/", "0644", Placed{})
		b.about.Scripts.Units = append(b.about.Scripts.Units, path.Base(unit))
	}
	for _, script := range b.c.OpenRC {
		name := strings.TrimSuffix(strings.TrimSuffix(path.Base(script), ".openrc"), ".initd")
		if b.read(script) == "" || b.format != distpkg.APK {
			continue
		}
		b.take(script, "/etc/init.d/"+name, "0755", Placed{})
		b.about.Scripts.Services = append(b.about.Scripts.Services, name)
	}
	for _, u := range b.c.Users {
		b.about.Scripts.Users = append(b.about.Scripts.Users, distpkg.User{Name: u.Name, Group: u.Group, Home: u.Home, Comment: u.Comment})
	}
	if len(b.c.Users) > 0 && b.format != distpkg.APK {
		b.add(Entry{Path: "/usr/lib/sysusers.d/" + b.about.Name + ".conf", Mode: 0o644}, Placed{Text: sysusers(b.c.Users)})
	}
	if b.c.TmpFiles != "" && b.read(b.c.TmpFiles) != "" && b.format != distpkg.APK {
		b.take(b.c.TmpFiles, "/usr/lib/tmpfiles.d/"+b.about.Name+".conf", "0644", Placed{})
		b.about.Scripts.TmpFiles = append(b.about.Scripts.TmpFiles, b.about.Name+".conf")
	}
}

// sysusers describes the accounts for systems that make theirs from such
// files. Source: sysusers.d(5).
func sysusers(users []config.Account) string {
	var s strings.Builder
	for _, u := range users {
		home := u.Home
		if home == "" {
			home = "-"
		}
		fmt.Fprintf(&s, "g %s -\nu %s -:%s %q %s\n", u.Group, u.Name, u.Group, u.Comment, home)
	}
	return s.String()
}

// read reads a file of the project; one that is not there is a fault.
func (b *packer) read(name string) string {
	data, err := fs.ReadFile(b.f.Files, path.Clean(name))
	if err != nil {
		b.failOnce("package %q: there is no file %s; change it in [package.%s]", b.c.Name, name, b.c.Name)
		return ""
	}
	return string(data)
}

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
			b.take(page, to, "0644", Placed{Kind: distpkg.KindDoc})
			continue
		}
		b.add(Entry{Path: to, Mode: 0o644}, Placed{Text: text, Gzip: true, Kind: distpkg.KindDoc})
	}
	for _, file := range b.c.Docs {
		b.take(file, doc, "0644", Placed{Kind: distpkg.KindDoc})
	}
	if b.format != distpkg.Deb {
		for _, file := range b.c.Licenses {
			b.take(file, "/usr/share/licenses/"+b.about.Name+"/", "0644", Placed{Kind: distpkg.KindLicense})
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
func debianChangelog(p *distpkg.Package) string {
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

func (b *packer) extras() {
	folders := map[string]string{"bash": "/usr/share/bash-completion/completions/", "fish": "/usr/share/fish/vendor_completions.d/", "zsh": "/usr/share/zsh/site-functions/_"}
	if b.format == distpkg.Deb {
		folders["zsh"] = "/usr/share/zsh/vendor-completions/_"
	}
	for _, shell := range slices.Sorted(maps.Keys(b.c.Completions)) {
		name := strings.TrimPrefix(strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(path.Base(b.c.Completions[shell]), ".bash"), ".zsh"), ".fish"), "_")
		if shell == "fish" {
			name += ".fish"
		}
		b.take(b.c.Completions[shell], folders[shell]+name, "0644", Placed{})
	}
	for _, file := range b.c.Desktop {
		b.take(file, "/usr/share/applications/", "0644", Placed{})
	}
	for _, size := range slices.Sorted(maps.Keys(b.c.Icons)) {
		b.take(b.c.Icons[size], "/usr/share/icons/hicolor/"+size+"/apps/", "0644", Placed{})
	}
}

func (b *packer) scripts() {
	for moment, into := range map[string]*string{"before-install": &b.about.Scripts.BeforeInstall, "after-install": &b.about.Scripts.AfterInstall, "before-remove": &b.about.Scripts.BeforeRemove, "after-remove": &b.about.Scripts.AfterRemove} {
		file := b.c.Scripts[moment]
		if file == "" {
			continue
		}
		if *into = b.read(file); *into != "" {
			if err := distpkg.CheckScript(*into); err != nil {
				b.failOnce("package %q: the script %s: %v", b.c.Name, file, err)
			}
		}
	}
}

// sorted puts the entries in order and refuses two at one place.
func (b *packer) sorted() []Placed {
	slices.SortFunc(b.list, func(x, y Placed) int { return strings.Compare(x.Path, y.Path) })
	for i, e := range b.list {
		if i > 0 && !e.Tree && e.Path == b.list[i-1].Path {
			b.failOnce("package %q: two files would be /%s; take one of them out or place it elsewhere with \"to\"", b.c.Name, e.Path)
		}
	}
	if b.format == distpkg.Arch || b.format == distpkg.Deb {
		b.owned()
	}
	if b.list == nil {
		return []Placed{}
	}
	return b.list
}

// owned has a script give owners to what belongs to a service's account: pacman
// takes owners by number, and those differ from system to system.
func (b *packer) owned() {
	b.list = slices.DeleteFunc(b.list, func(e Placed) bool {
		if e.Owner == "root" && e.Group == "root" {
			return false
		}
		b.about.Scripts.Owned = append(b.about.Scripts.Owned, distpkg.Owned{Path: "/" + e.Path, Mode: e.Octal, Owner: e.Owner, Group: e.Group, Dir: e.Dir})
		return e.Dir && b.format == distpkg.Arch
	})
}
