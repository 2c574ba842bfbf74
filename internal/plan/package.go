package plan

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/project/version"
)

// Package is one distribution package.
type Package struct {
	File        string   `json:"file"`
	Table       string   `json:"package"` // the NAME of [package.NAME]
	Format      string   `json:"format"`
	Platform    string   `json:"platform,omitempty"`
	Name        string   `json:"name"`
	Version     string   `json:"version"` // the whole one, as the format has it
	Arch        string   `json:"arch"`
	Compression string   `json:"compression"`
	Entries     []Placed `json:"entries"`
	// Relations are those of each key of the description, as the format has them;
	// what "auto" finds is known only when the programs are there.
	Relations map[string][]string `json:"relations,omitempty"`
	AutoNeeds bool                `json:"auto_needs,omitempty"`
	Reads     []string            `json:"reads,omitempty"` // files of the project that it is made from besides: scripts, manual pages
	About     linuxpkg.Package    `json:"-"`               // everything but the files
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
	arch, err := linuxpkg.ArchOf(format, on)
	if err != nil {
		say(err)
		return
	}
	spelled, err := version.Spell(format, p.plan.Version)
	if err != nil {
		say(err)
		return
	}
	about := linuxpkg.Package{Format: format, Name: c.Called, Epoch: c.Epoch, Version: spelled, Revision: c.RevisionOf(format), Arch: arch, Summary: first(c.Summary, p.c.Project.Summary),
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
		into         *[]linuxpkg.Relation
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
			if one, err := linuxpkg.ParseRelation(text); err == nil {
				*r.into = append(*r.into, one)
			}
		}
	}
	b := &packer{planner: p, c: c, format: format, on: on, about: &about}
	if pkg.Entries = b.entries(); pkg.Entries == nil && len(p.errors) > 0 {
		return
	}
	pkg.Reads = b.reads
	if pkg.Relations, err = about.Relations(); err != nil {
		say(err)
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
	case format == linuxpkg.APK:
		return "gz"
	case format == linuxpkg.Arch:
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
