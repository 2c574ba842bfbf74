package linuxpkg

import (
	_ "embed"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/project"
)

//go:embed keys.md
var docs string

// Kind is that of the files.
const Kind = "package"

// Relations are the keys for what a package needs, and so on. nil lists are not
// given.
type RelationKeys struct {
	Needs      []string `toml:"needs"`
	Recommends []string `toml:"recommends"`
	Suggests   []string `toml:"suggests"`
	Conflicts  []string `toml:"conflicts"`
	Replaces   []string `toml:"replaces"`
	Provides   []string `toml:"provides"`
}

// each calls do with every list and its key.
func (r *RelationKeys) each(do func(key string, list []string)) {
	do("needs", r.Needs)
	do("recommends", r.Recommends)
	do("suggests", r.Suggests)
	do("conflicts", r.Conflicts)
	do("replaces", r.Replaces)
	do("provides", r.Provides)
}

// of gives the list of a key.
func (r *RelationKeys) of(key string) (list []string) {
	r.each(func(k string, l []string) {
		if k == key {
			list = l
		}
	})
	return list
}

// Keys are those of [package.NAME].
type Keys struct {
	Name        string
	Formats     Formats           `toml:"formats" need:"yes" choice:"@formats"`
	Called      string            `toml:"name"`
	Programs    []string          `toml:"programs" ref:"program"`
	Platforms   config.Platforms  `toml:"platforms"`
	Bin         string            `toml:"bin" default:"\"/usr/bin\""`
	Trees       []config.Tree     `toml:"trees"`
	Files       []Placed          `toml:"files"`
	Folders     []Placed          `toml:"folders"`
	Links       map[string]string `toml:"links"`
	Summary     string            `toml:"summary"`
	Description string            `toml:"description"`
	License     string            `toml:"license"`
	Homepage    string            `toml:"homepage"`
	Maintainer  string            `toml:"maintainer"`
	Section     string            `toml:"section"`
	Revision    string            `toml:"revision" default:"\"1\""`
	Epoch       int               `toml:"epoch" default:"0"`
	RelationKeys
	Service     config.Texts      `toml:"service"`
	OpenRC      config.Texts      `toml:"openrc"`
	Users       []Account         `toml:"users"`
	TmpFiles    string            `toml:"tmpfiles"`
	Man         []string          `toml:"man"`
	Docs        []string          `toml:"docs"`
	Licenses    []string          `toml:"licenses"`
	Copyright   string            `toml:"copyright"`
	Completions map[string]string `toml:"completions"`
	Desktop     []string          `toml:"desktop"`
	Icons       map[string]string `toml:"icons"`
	Scripts     map[string]string `toml:"scripts"`
	Compression string            `toml:"compression" choice:"gz xz zst"`

	Overrides map[string]Override `toml:"*" each:"@formats"`
}

// Override is what differs for one format.
type Override struct {
	Name    string `toml:"name"`
	Section string `toml:"section"`
	RelationKeys
}

// Words are those of faults.
func (*Override) Words() config.Words {
	return config.Words{One: "a table with what differs for this format"}
}

// Placed is a file or folder with its place in a package.
type Placed struct {
	From  string `toml:"from"`
	To    string `toml:"to" need:"its place, such as \"/etc/hutbell/\""`
	Mode  string `toml:"mode"`
	Owner string `toml:"owner"`
	Group string `toml:"group"`
	Keep  bool   `toml:"keep"`
}

// Words are those of faults.
func (*Placed) Words() config.Words {
	return config.Words{Name: "a file of a package", One: "a table with from and to",
		List: "a list of tables with from and to"}
}

// Account is a user for a service.
type Account struct {
	Name    string `toml:"name" need:"what it is called"`
	Group   string `toml:"group"`
	Home    string `toml:"home"`
	Comment string `toml:"comment"`
}

// Words are those of faults.
func (*Account) Words() config.Words {
	return config.Words{Name: "a user", One: "a table with name", List: "a list of tables with name"}
}

// Formats are the package formats of a package.
type Formats struct{ config.Texts }

// Read reads them.
func (x *Formats) Read(r *config.Reader, n *config.Node, where string, choice []string) {
	x.ReadAs(r, n, where, "package format", choice)
}

// Of gives the packages of a description.
func Of(d *config.Document) []*Keys { return config.Named[Keys](d, "package") }

var (
	accountForm = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,30}$`)
	safePath    = regexp.MustCompile(`^/[A-Za-z0-9._/-]*$`)
	moments     = []string{BeforeInstall, AfterInstall, BeforeRemove, AfterRemove}
	shells      = []string{"bash", "zsh", "fish"}
)

// Part plans and makes packages.
type Part struct{ Formats []Format }

func (p Part) format(name string) Format {
	for _, f := range p.Formats {
		if f.Name() == name {
			return f
		}
	}
	return nil
}

// Table describes [package.NAME].
func (p Part) Table() config.Table {
	var names []string
	for _, f := range p.Formats {
		names = append(names, f.Name())
	}
	return config.Table{Name: "package", Named: true, Keys: func() any { return &Keys{} }, Docs: []string{docs},
		Lists: map[string][]string{"formats": names},
		Check: func(f *config.Faults, d *config.Document) {
			for _, k := range Of(d) {
				c := &checker{f, d, p, k, "package." + k.Name}
				c.check()
			}
		}}
}

// checker holds one package's keys against the rules of its formats.
type checker struct {
	*config.Faults
	d     *config.Document
	part  Part
	k     *Keys
	where string
}

// formats are those that the package asks for and that there are.
func (c *checker) formats() []Format {
	var out []Format
	for _, name := range c.k.Formats.Texts {
		if f := c.part.format(name); f != nil {
			out = append(out, f)
		}
	}
	return out
}

func (c *checker) check() {
	k := c.k
	if k.Called == "" {
		k.Called = k.Name
	}
	lang.CheckTrees(c.Faults, c.d, k.Trees, c.where)
	c.names()
	c.words()
	c.relations()
	c.files()
	c.users()
	for _, list := range []struct {
		key   string
		value map[string]string
		known []string
	}{{"scripts", k.Scripts, moments}, {"completions", k.Completions, shells}} {
		for name, path := range list.value {
			at := c.where + "." + list.key + "." + name
			if !slices.Contains(list.known, name) {
				c.UnknownName(at, strings.TrimSuffix(list.key, "s"), name, list.known)
			}
			c.Inside(at, path)
		}
	}
}

func (c *checker) names() {
	for _, f := range c.formats() {
		name, at := c.k.Called, c.where+".name"
		if o := c.k.Overrides[f.Name()]; o.Name != "" {
			name, at = o.Name, c.where+"."+f.Name()+".name"
		}
		if err := f.CheckName(name); err != nil {
			c.Fail(at, err.Error(), "")
		}
		if err := f.CheckRevision(f.Revision(c.k.Revision)); err != nil {
			c.Fail(c.where+".revision", err.Error(), "")
		}
	}
}

func (c *checker) words() {
	of := project.Of(c.d)
	if c.k.Maintainer == "" && of.Maintainer == "" {
		c.Fail(c.where, "a package says who is responsible for it: give [project] a maintainer",
			"such as maintainer = \"Ridge Signals <release@hutbell.example.org>\"")
	}
	if c.k.Summary == "" && of.Summary == "" {
		c.Fail(c.where, "a package says what it is: give it, or [project], a summary", "")
	}
	if strings.Contains(c.k.Summary, "\n") {
		c.Fail(c.where+".summary", "a summary is one line; more goes into description", "")
	}
	project.CheckLicense(c.Faults, c.where+".license", c.k.License)
}

func (c *checker) relations() {
	c.k.each(func(key string, list []string) {
		var formats []Format
		for _, f := range c.formats() {
			o := c.k.Overrides[f.Name()]
			if o.of(key) == nil { // else it is overridden
				formats = append(formats, f)
			}
		}
		c.relationList(list, c.where+"."+key, formats)
	})
	for _, f := range c.part.Formats {
		o := c.k.Overrides[f.Name()]
		o.each(func(key string, list []string) {
			c.relationList(list, c.where+"."+f.Name()+"."+key, []Format{f})
		})
	}
}

func (c *checker) relationList(list []string, where string, formats []Format) {
	for i, text := range list {
		at := fmt.Sprintf("%s.%d", where, i)
		if text == "auto" && strings.HasSuffix(where, ".needs") {
			continue
		}
		r, err := ParseRelation(text)
		if err != nil {
			c.Fail(at, err.Error(), "")
			continue
		}
		for _, f := range formats {
			if _, err := f.Relation(r); err != nil {
				c.Fail(at, strings.ReplaceAll(err.Error(), "package.NAME", "package."+c.k.Name), "")
			}
		}
	}
}

func (c *checker) files() {
	for i, p := range c.k.Files {
		at := fmt.Sprintf("%s.files.%d", c.where, i)
		if p.From == "" {
			c.Fail(at, "a file of a package needs \"from\": what is taken", "")
		}
		c.Inside(at+".from", p.From)
		c.placed(p, at)
		for _, f := range c.formats() {
			if below := f.Layout().KeepBelow; p.Keep && below != "" && !strings.HasPrefix(p.To, below) {
				c.Fail(at+".keep", fmt.Sprintf("%s keeps what was changed below %s only", f.Name(),
					strings.TrimSuffix(below, "/")), "place the file there, or leave "+f.Name()+" out")
			}
		}
	}
	for i, p := range c.k.Folders {
		at := fmt.Sprintf("%s.folders.%d", c.where, i)
		if p.From != "" || p.Keep {
			c.Fail(at, "a folder has no from and keep", "")
		}
		c.placed(p, at)
	}
	for path, target := range c.k.Links {
		if !strings.HasPrefix(path, "/") || target == "" {
			c.Fail(c.where+".links."+path, fmt.Sprintf("%q is no absolute path", path), "")
		}
	}
	for key, list := range map[string][]string{"service": c.k.Service, "openrc": c.k.OpenRC, "man": c.k.Man,
		"docs":     c.k.Docs,
		"licenses": c.k.Licenses, "desktop": c.k.Desktop} {
		for i, path := range list {
			c.Inside(fmt.Sprintf("%s.%s.%d", c.where, key, i), path)
		}
	}
	c.Inside(c.where+".tmpfiles", c.k.TmpFiles)
}

func (c *checker) placed(p Placed, at string) {
	if p.To != "" && (!strings.HasPrefix(p.To, "/") || slices.Contains(strings.Split(p.To, "/"), "..")) {
		c.Fail(at+".to", fmt.Sprintf("%q is no place on a system: write an absolute path", p.To), "")
	}
	if _, err := strconv.ParseUint(p.Mode, 8, 12); p.Mode != "" && err != nil {
		c.Fail(at+".mode", fmt.Sprintf("%q is not a mode", p.Mode), "write octal digits, as in \"0750\"")
	}
	for key, name := range map[string]string{"owner": p.Owner, "group": p.Group} {
		if name != "" && !accountForm.MatchString(name) {
			c.Fail(at+"."+key, fmt.Sprintf("%q cannot be the name of a user or group", name), "")
		}
	}
}

func (c *checker) users() {
	for i := range c.k.Users {
		u, at := &c.k.Users[i], fmt.Sprintf("%s.users.%d", c.where, i)
		if u.Group == "" {
			u.Group = u.Name
		}
		for _, name := range []string{u.Name, u.Group} {
			if name != "" && !accountForm.MatchString(name) {
				c.Fail(at, fmt.Sprintf("%q cannot be the name of a user: use up to 31 lower-case letters, "+
					"digits, _ and -", name), "")
				break
			}
		}
		if u.Home != "" && !safePath.MatchString(u.Home) {
			c.Fail(at, fmt.Sprintf("%q cannot be a home: write a plain absolute path", u.Home), "")
		}
	}
}
