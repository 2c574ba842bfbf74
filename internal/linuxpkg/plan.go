package linuxpkg

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/archive"
	"piedmont/internal/lang"
	"piedmont/internal/plan"
	"piedmont/internal/project"
	"piedmont/internal/release"
)

// Planned is one distribution package of a plan.
type Planned struct {
	File        string              `json:"file"`
	Table       string              `json:"package"` // the NAME of [package.NAME]
	Format      string              `json:"format"`
	Platform    string              `json:"platform,omitempty"`
	Name        string              `json:"name"`
	Version     string              `json:"version"` // the whole one, as the format has it
	Arch        string              `json:"arch"`
	Compression string              `json:"compression"`
	Entries     []PlacedEntry       `json:"entries"`
	Relations   map[string][]string `json:"relations,omitempty"`
	// AutoNeeds: what "auto" finds is known only when the programs are there.
	AutoNeeds bool `json:"auto_needs,omitempty"`
	// files of the project that it is made from besides: scripts, manual pages
	Reads []string `json:"reads,omitempty"`

	about *Package // everything but the files
}

// ReadFiles are files of the project that the package is made from besides those
// that it holds.
func (p *Planned) ReadFiles() []string { return p.Reads }

// PlacedEntry is an entry of a package as a plan's JSON tells it.
type PlacedEntry struct {
	plan.PlannedEntry
	Owner string `json:"owner"`
	Group string `json:"group"`
	Dir   bool   `json:"dir,omitempty"`
	Keep  bool   `json:"keep,omitempty"`
	Kind  string `json:"kind,omitempty"` // doc or license
	Text  string `json:"text,omitempty"` // the content, where it is made here
	Gzip  bool   `json:"gzip,omitempty"` // the content is compressed
}

func told(e release.Entry) PlacedEntry {
	out := PlacedEntry{plan.Told(e), e.Owner, e.Group, e.Mode.IsDir(), e.Keep, e.Mark, e.From.Text, e.From.Gzip}
	out.Mode = archive.Octal(e.Mode)
	return out
}

const section = "packages"

// In gives the packages of a plan.
func In(p *plan.Plan) []*Planned { return plan.Get[[]*Planned](p, section) }

// Plan plans every package for each of its formats and platforms.
func (p Part) Plan(c *plan.Context) {
	var out []*Planned
	for _, k := range Of(c.Doc) {
		holds := lang.Holding{Owner: plan.Owner{Kind: "package", Name: k.Name}, Programs: k.Programs,
			Trees: k.Trees, Platforms: k.Platforms}
		platforms := []platform.Platform{{}}
		if len(k.Programs)+len(k.Trees) > 0 {
			all, ok := holds.CommonPlatforms(c)
			if !ok {
				continue
			}
			// Without a choice, a package is for the Linux platforms of its programs.
			platforms = slices.DeleteFunc(all, func(on platform.Platform) bool {
				return on.OS != "linux" && len(k.Platforms.Given) == 0
			})
			if len(platforms) == 0 {
				c.Fail("package %q: none of its programs is made for Linux", k.Name)
			}
		}
		for _, on := range platforms {
			for _, name := range k.Formats.Texts {
				b := &packer{Context: c, k: k, format: p.format(name), holds: holds, on: on}
				if planned := b.plan(); planned != nil {
					out = append(out, planned)
				}
			}
		}
	}
	if len(out) > 0 {
		c.Plan.Set(section, out)
	}
}

// plan plans one package; nil when something of it was refused.
func (b *packer) plan() *Planned {
	about, err := b.describe()
	if err != nil {
		b.FailOnce("package %q: %v", b.k.Name, err)
		return nil
	}
	b.about = about
	planned := &Planned{Table: b.k.Name, Format: b.format.Name(), Name: about.Name, Arch: about.Arch,
		Compression: b.compression(), about: about}
	if b.on.OS != "" {
		planned.Platform = b.on.String()
	}
	planned.AutoNeeds = b.relations()
	entries := b.entries()
	if entries == nil && b.Failed() {
		return nil
	}
	if planned.Relations, err = about.Relations(); err != nil {
		b.FailOnce("package %q: %v", b.k.Name, err)
		return nil
	}
	planned.Entries = []PlacedEntry{}
	for _, e := range entries {
		planned.Entries = append(planned.Entries, told(e))
	}
	planned.Reads, planned.Version, planned.File = b.reads, about.Full(), about.FileName()
	b.Add(&release.Artifact{Name: planned.File, Kind: Kind, From: b.k.Name, Platform: planned.Platform,
		MediaType: b.format.Layout().MediaType,
		MadeFrom:  fmt.Sprintf("%s: %s package", b.k.Name, b.format.Name()), Entries: entries, Detail: planned,
		Package: &release.Package{Format: planned.Format, Name: planned.Name, Version: planned.Version,
			Arch: planned.Arch}})
	return planned
}

// describe is what the package says, but for relations and files.
func (b *packer) describe() (*Package, error) {
	k, of := b.k, project.Of(b.Doc)
	arch, err := b.format.Arch(b.on)
	if err != nil {
		return nil, err
	}
	spelled, err := b.format.Version(b.Plan.Version)
	if err != nil {
		return nil, err
	}
	o := k.Overrides[b.format.Name()]
	p := &Package{Format: b.format, Name: cmp.Or(o.Name, k.Called), Epoch: k.Epoch, Version: spelled,
		Revision: b.format.Revision(k.Revision), Arch: arch,
		Summary: cmp.Or(k.Summary, of.Summary), Description: k.Description, License: cmp.Or(k.License, of.License),
		Homepage: cmp.Or(k.Homepage, of.Homepage), Maintainer: cmp.Or(k.Maintainer, of.Maintainer),
		Section: cmp.Or(o.Section, k.Section),
		Source:  of.Name, Time: b.Plan.Commit.Time, Changes: changes(b.Facts.Notes),
		Notes: b.Fill(of.Releases, b.Values())}
	if p.License == "" {
		b.FailOnce("package %q: it says no licence; give it or [project] a \"license\"", k.Name)
	}
	return p, nil
}

// relations fills those of the package; it says whether "auto" is among its needs.
func (b *packer) relations() (auto bool) {
	into := map[string]*[]Relation{"needs": &b.about.Needs, "recommends": &b.about.Recommends,
		"suggests":  &b.about.Suggests,
		"conflicts": &b.about.Conflicts, "replaces": &b.about.Replaces, "provides": &b.about.Provides}
	o := b.k.Overrides[b.format.Name()]
	b.k.each(func(key string, list []string) {
		if own := o.of(key); own != nil {
			list = own
		}
		for _, text := range list {
			if text == "auto" {
				auto = true
				continue
			}
			if r, err := ParseRelation(text); err == nil {
				*into[key] = append(*into[key], r)
			}
		}
	})
	return auto
}

// compression is that of the files: gz is shared with the archives.
func (b *packer) compression() string {
	return cmp.Or(b.format.Layout().Compression, b.k.Compression, "gz")
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
