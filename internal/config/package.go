package config

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"piedmont/internal/linuxpkg"
)

// Package is a distribution package, one for each platform and format.
type Package struct {
	Name        string            `toml:"-"`
	Formats     Texts             `toml:"formats" need:"yes" doc:"Formats: deb (Debian and its kin), rpm (Fedora, RHEL, SUSE and theirs), apk (Alpine), arch (Arch)." example:"[\"deb\", \"rpm\", \"apk\", \"arch\"]"`
	Called      string            `toml:"name" doc:"The package's name, where it is not that of the table." example:"\"hutbelld\""`
	Programs    []string          `toml:"programs" doc:"Programs that go into the folder for programs. The package is made for the Linux platforms that all of them have; without any it is for every machine." example:"[\"hutbelld\"]"`
	Platforms   Platforms         `toml:"platforms" doc:"Make it for these platforms only." example:"[\"linux/amd64\"]"`
	Bin         string            `toml:"bin" default:"\"/usr/bin\"" doc:"The folder for programs." example:"\"/usr/sbin\""`
	Trees       []Tree            `toml:"trees" doc:"What programs installed into their stages, as in a bundle; without to it goes to the same place below /." example:"[\"tower\"]"`
	Files       []Placed          `toml:"files" doc:"Files and where they go: tables with from (a path or pattern), to (a folder when it ends in a slash), mode, owner, group, and keep (an upgrade does not overwrite what was changed)." example:"[{ from = \"packaging/hutbelld.toml\", to = \"/etc/hutbell/hutbelld.toml\", keep = true }]"`
	Folders     []Placed          `toml:"folders" doc:"Empty folders: tables with to, mode, owner and group." example:"[{ to = \"/var/lib/hutbell\", owner = \"hutbell\", group = \"hutbell\", mode = \"0750\" }]"`
	Links       map[string]string `toml:"links" doc:"Symbolic links, by path." example:"{ \"/usr/bin/hutbell-relay\" = \"hutbelld\" }"`
	Summary     string            `toml:"summary" doc:"What it is, in a line; without it, the project's." example:"\"Relays bulletins between mountain huts\""`
	Description string            `toml:"description" doc:"More about it, in lines and paragraphs." example:"\"hutbelld listens for bulletins and passes them on.\""`
	License     string            `toml:"license" doc:"Licence as an SPDX expression; without it, the project's." example:"\"Apache-2.0\""`
	Homepage    string            `toml:"homepage" doc:"Address of its site; without it, the project's." example:"\"https://hutbell.example.org\""`
	Maintainer  string            `toml:"maintainer" doc:"Name and address of who is responsible; without it, the project's." example:"\"Ridge Signals <release@hutbell.example.org>\""`
	Section     string            `toml:"section" doc:"Section of deb, group of rpm." example:"\"net\""`
	Revision    string            `toml:"revision" default:"\"1\"" doc:"Counts packages of one version; apk gets one less, since it begins at 0." example:"\"2\""`
	Epoch       int               `toml:"epoch" default:"0" doc:"Outranks the version, where the way of counting has changed. apk has none." example:"1"`
	Needs       []string          `toml:"needs" doc:"What must be there too: names, perhaps with <, <=, =, >= or > and a version, alternatives with | between. \"auto\" adds the libraries that the programs were found to need." example:"[\"ca-certificates\", \"hutline-tools >= 1.2\", \"auto\"]"`
	Recommends  []string          `toml:"recommends" doc:"What is installed with it unless somebody objects." example:"[\"logrotate\"]"`
	Suggests    []string          `toml:"suggests" doc:"What goes well with it." example:"[\"hutbell\"]"`
	Conflicts   []string          `toml:"conflicts" doc:"What must not be there." example:"[\"hutbell-relay\"]"`
	Replaces    []string          `toml:"replaces" doc:"Whose files it may take over." example:"[\"hutbell-relay < 1.3.0\"]"`
	Provides    []string          `toml:"provides" doc:"Under which other names it can be needed." example:"[\"bulletin-relay\"]"`
	Service     Texts             `toml:"service" doc:"systemd unit, or several. It is enabled, restarted and stopped as each distribution does that. Not for apk." example:"\"packaging/hutbelld.service\""`
	OpenRC      Texts             `toml:"openrc" doc:"OpenRC script, or several, for apk." example:"\"packaging/hutbelld.openrc\""`
	Users       []Account         `toml:"users" doc:"Accounts for services, made before the files are there: tables with name, group, home and comment." example:"[{ name = \"hutbell\", home = \"/var/lib/hutbell\", comment = \"Relay of bulletins\" }]"`
	TmpFiles    string            `toml:"tmpfiles" doc:"File for tmpfiles.d. Not for apk." example:"\"packaging/hutbelld.tmpfiles\""`
	Man         []string          `toml:"man" doc:"Manual pages; the ending says the section. They are compressed." example:"[\"man/hutbelld.8\"]"`
	Docs        []string          `toml:"docs" doc:"Documentation." example:"[\"README.md\"]"`
	Licenses    []string          `toml:"licenses" doc:"Files with the licence, where each distribution wants them." example:"[\"LICENSE\"]"`
	Copyright   string            `toml:"copyright" doc:"Who holds the rights, for Debian's copyright file; without it, the maintainer." example:"\"2026 Ridge Signals\""`
	Completions map[string]string `toml:"completions" doc:"Completions for shells, by bash, zsh and fish." example:"{ bash = \"packaging/hutbell.bash\" }"`
	Desktop     []string          `toml:"desktop" doc:"Desktop entries." example:"[\"packaging/hutbell.desktop\"]"`
	Icons       map[string]string `toml:"icons" doc:"Icons by size, or scalable." example:"{ \"64x64\" = \"icons/hutbell-64.png\", scalable = \"icons/hutbell.svg\" }"`
	Scripts     map[string]string `toml:"scripts" doc:"Shell scripts by moment: before-install, after-install (their argument is install or upgrade), before-remove and after-remove (remove; not run by an upgrade)." example:"{ after-install = \"packaging/after-install.sh\" }"`
	Compression string            `toml:"compression" doc:"Of deb and rpm: gz, xz or zst; without it gz. What is compressed is shared with the archives, but for xz and a deb's zst." choice:"gz xz zst" example:"\"zst\""`
	Deb         Override          `toml:"deb" doc:"What differs for deb: a table with name, section, needs, recommends, suggests, conflicts, replaces and provides."`
	RPM         Override          `toml:"rpm" doc:"What differs for rpm."`
	APK         Override          `toml:"apk" doc:"What differs for apk."`
	Arch        Override          `toml:"arch" doc:"What differs for arch."`
}

// Override is what differs for one format; nil lists are not overridden.
type Override struct {
	Name, Section                                              string
	Needs, Recommends, Suggests, Conflicts, Replaces, Provides []string
}

var overrideKeys = []string{"name", "section", "needs", "recommends", "suggests", "conflicts", "replaces", "provides"}

func (o *Override) fromNode(d *decoder, n *node, where string) {
	if n.kind != kindTable {
		d.expected(n, "a table with what differs for this format")
		return
	}
	list := func(into *[]string) func(*node, string) {
		return func(n *node, at string) {
			*into = append([]string{}, d.strings(n, at, "a list of texts")...)
		}
	}
	d.keys(n, where, "["+where+"]", overrideKeys, map[string]func(*node, string){
		"name":    func(n *node, _ string) { o.Name = d.text(n) },
		"section": func(n *node, _ string) { o.Section = d.text(n) },
		"needs":   list(&o.Needs), "recommends": list(&o.Recommends), "suggests": list(&o.Suggests),
		"conflicts": list(&o.Conflicts), "replaces": list(&o.Replaces), "provides": list(&o.Provides),
	})
}

func (*Override) shape() shape {
	properties := map[string]any{"name": textSchema, "section": textSchema}
	for _, key := range overrideKeys[2:] {
		properties[key] = listSchema(textSchema)
	}
	return shape{"table", map[string]any{"type": "object", "additionalProperties": false, "properties": properties}}
}

// Of gives what differs for a format.
func (p *Package) Of(format string) Override {
	switch format {
	case linuxpkg.Deb:
		return p.Deb
	case linuxpkg.RPM:
		return p.RPM
	case linuxpkg.APK:
		return p.APK
	}
	return p.Arch
}

// Placed is a file or folder with its place in a package.
type Placed struct {
	From, To, Mode, Owner, Group string
	Keep                         bool
}

var placedKeys = []string{"from", "to", "mode", "owner", "group", "keep"}

func (p *Placed) fromNode(d *decoder, n *node, where string) {
	if n.kind != kindTable {
		d.expected(n, "a table with from and to")
		return
	}
	text := func(into *string) func(*node, string) { return func(n *node, _ string) { *into = d.text(n) } }
	d.keys(n, where, "a file of a package", placedKeys, map[string]func(*node, string){
		"from": text(&p.From), "to": text(&p.To), "mode": text(&p.Mode), "owner": text(&p.Owner), "group": text(&p.Group),
		"keep": func(n *node, _ string) { p.Keep = d.bool(n) },
	})
	if n.table["to"] == nil {
		d.fail(n.pos, "a file of a package needs \"to\": its place, such as \"/etc/hutbell/\"", "")
	}
}

func (*Placed) shape() shape {
	properties := map[string]any{"keep": map[string]any{"type": "boolean"}}
	for _, key := range placedKeys[:5] {
		properties[key] = textSchema
	}
	return shape{"table", map[string]any{"type": "object", "additionalProperties": false, "required": []string{"to"}, "properties": properties}}
}

// Account is a user for a service.
type Account struct{ Name, Group, Home, Comment string }

var (
	accountKeys = []string{"name", "group", "home", "comment"}
	accountForm = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,30}$`)
)

func (a *Account) fromNode(d *decoder, n *node, where string) {
	if n.kind != kindTable {
		d.expected(n, "a table with name")
		return
	}
	text := func(into *string) func(*node, string) { return func(n *node, _ string) { *into = d.text(n) } }
	d.keys(n, where, "a user", accountKeys, map[string]func(*node, string){"name": text(&a.Name), "group": text(&a.Group), "home": text(&a.Home), "comment": text(&a.Comment)})
	if a.Group == "" {
		a.Group = a.Name
	}
	for _, name := range []string{a.Name, a.Group} {
		if !accountForm.MatchString(name) {
			d.fail(n.pos, fmt.Sprintf("%q cannot be the name of a user: use up to 31 lower-case letters, digits, _ and -", name), "")
		}
	}
	if a.Home != "" && !safePath.MatchString(a.Home) {
		d.fail(n.pos, fmt.Sprintf("%q cannot be a home: write a plain absolute path", a.Home), "")
	}
}

func (*Account) shape() shape {
	properties := map[string]any{}
	for _, key := range accountKeys {
		properties[key] = textSchema
	}
	return shape{"table", map[string]any{"type": "object", "additionalProperties": false, "required": []string{"name"}, "properties": properties}}
}

var (
	safePath = regexp.MustCompile(`^/[A-Za-z0-9._/-]*$`)
	moments  = []string{"before-install", "after-install", "before-remove", "after-remove"}
	shells   = []string{"bash", "zsh", "fish"}
)

// lists fills a list of custom values.
func lists[T any, P interface {
	*T
	custom
}](d *decoder, n *node, where, what string) []T {
	if n.kind != kindArray {
		d.expected(n, what)
		return nil
	}
	out := make([]T, len(n.items))
	for i, item := range n.items {
		at := fmt.Sprintf("%s.%d", where, i)
		d.at[at] = item.pos
		P(&out[i]).fromNode(d, item, at)
	}
	return out
}

func (v *validator) pkg(p *Package) {
	where := "package." + p.Name
	v.resolve(&p.Platforms, where+".platforms")
	for i, format := range p.Formats {
		v.choice(format, linuxpkg.Formats, fmt.Sprintf("%s.formats.%d", where, i), "package format")
	}
	if p.Called == "" {
		p.Called = p.Name
	}
	if p.Bin == "" {
		p.Bin = "/usr/bin"
	}
	if p.Revision == "" {
		p.Revision = "1"
	}
	for i, name := range p.Programs {
		if v.c.Program(name) == nil {
			var names []string
			for _, p := range v.c.Programs {
				names = append(names, p.Name)
			}
			v.unknownName(fmt.Sprintf("%s.programs.%d", where, i), "program", name, names)
		}
	}
	v.trees(&Bundle{Name: p.Name, Trees: p.Trees}, where)
	v.pkgNames(p, where)
	v.pkgFiles(p, where)
	for _, key := range []struct {
		name  string
		value map[string]string
		known []string
	}{{"scripts", p.Scripts, moments}, {"completions", p.Completions, shells}} {
		for name, path := range key.value {
			at := where + "." + key.name + "." + name
			if !slices.Contains(key.known, name) {
				v.unknownName(at, strings.TrimSuffix(key.name, "s"), name, key.known)
			}
			v.inside(path, at)
		}
	}
}

// pkgNames holds names and relations against the rules of each format.
func (v *validator) pkgNames(p *Package, where string) {
	for _, format := range p.Formats {
		if !slices.Contains(linuxpkg.Formats, format) {
			continue
		}
		o := p.Of(format)
		name, at := p.Called, where+".name"
		if o.Name != "" {
			name, at = o.Name, where+"."+format+".name"
		}
		if v.at[at] == (Pos{}) {
			at = where
		}
		if err := linuxpkg.CheckName(format, name); err != nil {
			v.fail(v.at[at], err.Error(), "")
		}
		if err := linuxpkg.CheckRevision(format, p.revision(format)); err != nil {
			v.fail(v.at[where+".revision"], err.Error(), "")
		}
	}
	if p.Maintainer == "" && v.c.Project.Maintainer == "" {
		v.fail(v.at[where], "a package says who is responsible for it: give [project] a maintainer", "such as maintainer = \"Ridge Signals <release@hutbell.example.org>\"")
	}
	if p.Summary == "" && v.c.Project.Summary == "" {
		v.fail(v.at[where], "a package says what it is: give it, or [project], a summary", "")
	}
	if strings.Contains(p.Summary, "\n") {
		v.fail(v.at[where+".summary"], "a summary is one line; more goes into description", "")
	}
	for key, list := range map[string][]string{"needs": p.Needs, "recommends": p.Recommends, "suggests": p.Suggests, "conflicts": p.Conflicts, "replaces": p.Replaces, "provides": p.Provides} {
		v.relations(p, list, where+"."+key, p.Formats, key)
	}
	for _, format := range linuxpkg.Formats {
		o := p.Of(format)
		for key, list := range map[string][]string{"needs": o.Needs, "recommends": o.Recommends, "suggests": o.Suggests, "conflicts": o.Conflicts, "replaces": o.Replaces, "provides": o.Provides} {
			v.relations(p, list, where+"."+format+"."+key, []string{format}, "")
		}
	}
}

func (v *validator) relations(p *Package, list []string, where string, formats []string, key string) {
	for i, text := range list {
		at := v.at[fmt.Sprintf("%s.%d", where, i)]
		if text == "auto" && strings.HasSuffix(where, ".needs") {
			continue
		}
		r, err := linuxpkg.ParseRelation(text)
		if err != nil {
			v.fail(at, err.Error(), "")
			continue
		}
		for _, format := range formats {
			if key != "" && overridden(p.Of(format), key) {
				continue
			}
			if _, err := r.Write(format); err != nil {
				v.fail(at, strings.ReplaceAll(err.Error(), "package.NAME", "package."+p.Name), "")
			}
		}
	}
}

func overridden(o Override, key string) bool {
	return map[string][]string{"needs": o.Needs, "recommends": o.Recommends, "suggests": o.Suggests, "conflicts": o.Conflicts, "replaces": o.Replaces, "provides": o.Provides}[key] != nil
}

// revision is how a format counts.
func (p *Package) revision(format string) string {
	if n, err := strconv.Atoi(p.Revision); err == nil && format == linuxpkg.APK {
		return strconv.Itoa(max(0, n-1))
	}
	return p.Revision
}

// RevisionOf is the revision as a format counts.
func (p *Package) RevisionOf(format string) string { return p.revision(format) }

func (v *validator) pkgFiles(p *Package, where string) {
	for i, f := range p.Files {
		at := fmt.Sprintf("%s.files.%d", where, i)
		if f.From == "" {
			v.fail(v.at[at], "a file of a package needs \"from\": what is taken", "")
		}
		v.inside(f.From, at+".from")
		v.placed(f, at)
		if f.Keep && slices.Contains(p.Formats, linuxpkg.APK) && !strings.HasPrefix(f.To, "/etc/") {
			v.fail(v.at[at+".keep"], "apk keeps what was changed below /etc only", "place the file there, or leave apk out")
		}
	}
	for i, f := range p.Folders {
		at := fmt.Sprintf("%s.folders.%d", where, i)
		if f.From != "" || f.Keep {
			v.fail(v.at[at], "a folder has no from and keep", "")
		}
		v.placed(f, at)
	}
	for path, target := range p.Links {
		if !strings.HasPrefix(path, "/") || target == "" {
			v.fail(v.at[where+".links."+path], fmt.Sprintf("%q is no absolute path", path), "")
		}
	}
	lists := map[string][]string{"service": p.Service, "openrc": p.OpenRC, "man": p.Man, "docs": p.Docs, "licenses": p.Licenses, "desktop": p.Desktop}
	for key, list := range lists {
		for i, path := range list {
			v.inside(path, fmt.Sprintf("%s.%s.%d", where, key, i))
		}
	}
	v.inside(p.TmpFiles, where+".tmpfiles")
}

func (v *validator) placed(f Placed, at string) {
	if f.To != "" && (!strings.HasPrefix(f.To, "/") || slices.Contains(strings.Split(f.To, "/"), "..")) {
		v.fail(v.at[at+".to"], fmt.Sprintf("%q is no place on a system: write an absolute path", f.To), "")
	}
	if _, err := strconv.ParseUint(f.Mode, 8, 12); f.Mode != "" && err != nil {
		v.fail(v.at[at+".mode"], fmt.Sprintf("%q is not a mode", f.Mode), "write octal digits, as in \"0750\"")
	}
	for key, name := range map[string]string{"owner": f.Owner, "group": f.Group} {
		if name != "" && !accountForm.MatchString(name) {
			v.fail(v.at[at+"."+key], fmt.Sprintf("%q cannot be the name of a user or group", name), "")
		}
	}
}
