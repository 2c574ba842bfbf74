package bundle

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/archive"
	"piedmont/internal/lang"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// Archive is one bundle for one platform in one format.
type Archive struct {
	File     string              `json:"file"`
	Bundle   string              `json:"bundle"`
	Platform string              `json:"platform,omitempty"`
	Format   string              `json:"format"`
	Folder   string              `json:"folder,omitempty"` // inside, that holds everything
	Entries  []plan.PlannedEntry `json:"entries"`

	entries []release.Entry
}

// section is the name of the archives in a plan.
const section = "archives"

// In gives the archives of a plan.
func In(p *plan.Plan) []*Archive { return plan.Get[[]*Archive](p, section) }

// Plan plans every bundle for each of its platforms and formats.
func (p Part) Plan(c *plan.Context) {
	archives := []*Archive{}
	for _, k := range Of(c.Doc) {
		b := &planner{Context: c, part: p, k: k, holds: lang.Holding{
			Owner: plan.Owner{Kind: "bundle", Name: k.Name}, Programs: k.Programs, Trees: k.Trees,
			Platforms: k.Platforms}}
		b.files()
		platforms, ok := b.holds.CommonPlatforms(c)
		if !ok {
			continue
		}
		if len(platforms) == 0 {
			platforms = []platform.Platform{{}}
		}
		for _, on := range platforms {
			archives = append(archives, b.plan(on)...)
		}
	}
	c.Plan.Set(section, archives)
}

// planner plans one bundle.
type planner struct {
	*plan.Context
	part  Part
	k     *Keys
	holds lang.Holding
	found []release.Entry // files of the project
}

// files finds the files of all rules.
func (b *planner) files() {
	for _, r := range b.k.Files {
		found := b.Files(b.holds.Owner, r)
		names := make([]string, len(found))
		for i, e := range found {
			names[i] = e.From.Path
		}
		b.Plan.Matches = append(b.Plan.Matches, plan.Match{Bundle: b.k.Name, Pattern: r.From, Files: names})
		b.found = append(b.found, found...)
	}
}

// plan plans the bundle for one platform.
func (b *planner) plan(on platform.Platform) []*Archive {
	v := b.PlatformValues(on)
	v["bundle"] = b.k.Name
	name, folder := b.Fill(b.k.FileName(), v), b.Fill(b.k.Folder, v)
	target := ""
	if on.OS != "" {
		target = on.String()
	}
	entries, ok := b.entries(on, folder)
	if !ok {
		return nil
	}
	var out []*Archive
	for _, format := range b.k.Formats.For(on) {
		f := b.part.format(format)
		if f == nil {
			continue // refused in the description
		}
		b.links(f, entries)
		a := &Archive{File: name + "." + format, Bundle: b.k.Name, Platform: target, Format: format,
			Folder: path.Clean("./" + folder), entries: entries}
		for _, e := range entries {
			a.Entries = append(a.Entries, plan.Told(e))
		}
		out = append(out, a)
		b.Add(&release.Artifact{Name: a.File, Kind: Kind, From: b.k.Name, Platform: target, MediaType: f.MediaType(),
			MadeFrom: madeFrom(b.k, len(b.found)), Entries: entries, Detail: a})
	}
	return out
}

// entries are those of the bundle for a platform, sorted; false when something of
// it was refused.
func (b *planner) entries(on platform.Platform, folder string) ([]release.Entry, bool) {
	var entries []release.Entry
	for _, program := range b.k.Programs {
		build, out, ok := b.holds.Output(b.Context, program, on)
		if !ok {
			return nil, false // its program was refused already
		}
		e := release.Entry{From: release.Origin{Build: build.ID, Path: out.File}}
		e.Path, e.Mode = path.Base(out.File), programMode
		entries = append(entries, e)
	}
	for _, t := range b.k.Trees {
		build, _, ok := b.Plan.Build(t.Program, on)
		if !ok {
			return nil, false
		}
		e := release.Entry{From: release.Origin{Build: build.ID, Path: path.Join(".", t.From), Tree: true}}
		e.Path = path.Join(".", t.To)
		entries = append(entries, e)
	}
	entries = append(entries, b.found...)
	for i := range entries {
		entries[i].Path = path.Join(folder, entries[i].Path)
	}
	slices.SortFunc(entries, func(x, y release.Entry) int { return strings.Compare(x.Path, y.Path) })
	for i := 1; i < len(entries); i++ {
		if entries[i].Path == entries[i-1].Path && !entries[i].From.Tree && !entries[i-1].From.Tree {
			b.Fail("bundle %q: two files would be %s in the archive; place one of them elsewhere with \"to\"",
				b.k.Name, entries[i].Path)
			return nil, false
		}
	}
	return entries, true
}

// links refuses what a format cannot hold.
func (b *planner) links(f archive.Format, entries []release.Entry) {
	for _, e := range entries {
		if err := f.Check(e.Entry, archive.Options{Time: b.Time}); err != nil {
			b.Fail("bundle %q: %v; leave it out or use tar.gz there", b.k.Name, err)
		}
	}
}

func madeFrom(k *Keys, files int) string {
	parts := slices.Clone(k.Programs)
	for _, t := range k.Trees {
		parts = append(parts, "tree of "+t.Program)
	}
	switch files {
	case 0:
	case 1:
		parts = append(parts, "1 file")
	default:
		parts = append(parts, fmt.Sprintf("%d files", files))
	}
	return k.Name + ": " + strings.Join(parts, ", ")
}

// ProgramIn finds a program among what an archive will hold, as a path below its
// folder. With a tree in it, that is not known before it is made.
func (a *Archive) ProgramIn(name string, on platform.Platform) (string, bool) {
	names := []string{path.Clean(name), on.Executable(path.Clean(name))}
	trees := false
	for _, e := range a.entries {
		for _, n := range names {
			if !e.From.Tree && e.Path == path.Join(a.Folder, n) {
				return n, true
			}
		}
		trees = trees || e.From.Tree
	}
	if !trees {
		return name, false
	}
	if strings.Contains(path.Base(name), ".") {
		return names[0], true
	}
	return names[1], true
}
