// Package bundle is the table [bundle.NAME]: archives of programs and files, one
// for each platform.
package bundle

import (
	_ "embed"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/tomltree"
	"piedmont/internal/lang"
	"piedmont/internal/release"
	"piedmont/internal/site"
)

//go:embed keys.md
var docs string

// placeholders are those of an archive's name and folder.
var placeholders = []string{"project", "version", "tag", "commit", "os", "arch", "variant", "bundle"}

// Kind is that of the files.
const Kind = "bundle"

// Keys are those of [bundle.NAME].
type Keys struct {
	Name      string
	Programs  []string         `toml:"programs" ref:"program"`
	Files     []config.Rule    `toml:"files"`
	Platforms config.Platforms `toml:"platforms"`
	Formats   Formats          `toml:"formats" default:"\"tar.gz\"" choice:"@formats"`
	File      string           `toml:"name" fill:"@placeholders"`
	Trees     []config.Tree    `toml:"trees"`
	Folder    string           `toml:"folder" default:"\"\"" fill:"@placeholders"`
}

// Part plans and makes bundles.
type Part struct{ Formats []archive.Format }

func (p Part) format(name string) archive.Format {
	for _, f := range p.Formats {
		if f.Name() == name {
			return f
		}
	}
	return nil
}

// Table describes [bundle.NAME].
func (p Part) Table() config.Table {
	var names []string
	for _, f := range p.Formats {
		names = append(names, f.Name())
	}
	return config.Table{Name: "bundle", Named: true, Keys: func() any { return &Keys{} }, Docs: []string{docs},
		Lists: map[string][]string{"formats": names, "placeholders": placeholders}, Check: check}
}

// Of gives the bundles of a description.
func Of(d *config.Document) []*Keys { return config.Named[Keys](d, "bundle") }

func check(f *config.Faults, d *config.Document) {
	for _, k := range Of(d) {
		where := "bundle." + k.Name
		k.Formats.check(f, where+".formats")
		lang.CheckTrees(f, d, k.Trees, where)
		for i, r := range k.Files {
			at := fmt.Sprintf("%s.files.%d", where, i)
			f.Inside(at+".from", r.From)
			f.Inside(at+".to", r.To)
			if _, err := strconv.ParseUint(r.Mode, 8, 9); r.Mode != "" && err != nil {
				f.Fail(at+".mode", fmt.Sprintf("%q is not a mode", r.Mode), "write octal digits, as in \"0755\"")
			}
		}
		f.Inside(where+".folder", k.Folder)
		if len(k.Programs) == 0 && len(k.Files) == 0 && len(k.Trees) == 0 {
			f.Fail(where, fmt.Sprintf("the bundle %q is empty", k.Name), "give it programs or files")
		}
	}
}

// FileName is the form of the file's name, without its ending.
func (k *Keys) FileName() string {
	switch {
	case k.File != "":
		return k.File
	case len(k.Programs) == 0 && len(k.Trees) == 0 && len(k.Platforms.Given) == 0:
		return "{project}-{version}-{bundle}"
	}
	return "{project}-{version}-{os}-{arch}{variant}"
}

// Formats is a choice of archive formats by platform.
type Formats struct {
	rules map[string][]string // by "default", system or platform
	order []string
}

// Read reads a format, a list of them, or a table.
func (x *Formats) Read(r *config.Reader, n *config.Node, where string, choice []string) {
	x.rules = map[string][]string{}
	set := func(key string, n *config.Node, where string) {
		var list []string
		if n.Kind == tomltree.String {
			list = []string{n.Text}
			r.Mark(where+".0", n.Pos)
		} else {
			list = r.Texts(n, where, "an archive format or a list of them")
		}
		for i, format := range list {
			r.Choice(fmt.Sprintf("%s.%d", where, i), "archive format", format, choice)
		}
		x.rules[key] = list
		x.order = append(x.order, key)
	}
	if n.Kind != tomltree.Table {
		set("default", n, where)
		return
	}
	for _, key := range n.Keys {
		r.Mark(where+"."+key, n.Get(key).KeyPos)
		set(key, n.Get(key).Node, where+"."+key)
	}
}

// Shape is a text, a list or a table.
func (*Formats) Shape(choice []string) config.Shape {
	one := map[string]any{"enum": choice}
	many := config.AnyOf(one, config.ListSchema(one))
	return config.Shape{Written: "text, list of texts, or table",
		Schema: config.AnyOf(one, config.ListSchema(one),
			map[string]any{"type": "object", "additionalProperties": many})}
}

// check reports rules for what is no system or platform.
func (x Formats) check(f *config.Faults, where string) {
	known := platform.All()
	var systems []string
	for _, p := range known {
		if os, _, _ := strings.Cut(p, "/"); !slices.Contains(systems, os) {
			systems = append(systems, os)
		}
	}
	for _, key := range x.order {
		if key == "default" || slices.Contains(systems, key) || slices.Contains(known, key) {
			continue
		}
		if p, err := platform.Parse(key); err == nil && platform.Known(p.Base()) && p.CheckVariant() == nil {
			continue
		}
		f.UnknownName(where+"."+key, "system or platform", key, append([]string{"default"}, systems...))
	}
}

// For gives the formats of a platform: its own rule, else its system's, else the default.
func (x Formats) For(p platform.Platform) []string {
	for _, key := range []string{p.String(), p.Base(), p.OS, "default"} {
		if list, ok := x.rules[key]; ok {
			return list
		}
	}
	return []string{"tar.gz"}
}

// programMode is that of programs.
const programMode fs.FileMode = 0o755

// Present says what kind of archive a file is.
func (p Part) Present(f release.Artifact, at site.Placement) site.Placement {
	if f.Kind != Kind {
		return at
	}
	for _, x := range p.Formats {
		if strings.HasSuffix(f.Name, "."+x.Name()) {
			at.Ending = x.Name()
		}
	}
	return at
}
