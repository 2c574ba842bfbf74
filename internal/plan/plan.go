// Package plan turns a configuration and what git knows into everything that
// will be made, from what and under which names. It is a pure function: it
// reads the project's files through an fs.FS and changes nothing.
package plan

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/format/exe"
	"piedmont/internal/project/version"
	"piedmont/internal/release"
)

// Facts are what a plan needs besides the configuration.
type Facts struct {
	Release version.Release
	Commit  string
	Time    time.Time
	Files   fs.FS // the project's folder
	// Notes are the text of notes.md.
	Notes string
	// Compiler says why there is no C compiler for a platform: nil when there is
	// one, or when it is not known yet. Without the function, all are there.
	Compiler func(on platform.Platform, toolchain string) error
}

// Kinds of files.
const (
	KindBundle   = "bundle"
	KindSource   = "source"
	KindPackage  = "package"
	KindNotes    = "notes"
	KindManifest = "manifest"
	KindSums     = "checksums"
)

// Plan is everything that will be made.
type Plan struct {
	Project      release.Project `json:"project"`
	Version      string          `json:"version"`
	Tag          string          `json:"tag"`
	Preview      bool            `json:"preview"`
	Why          string          `json:"why_preview,omitempty"`
	Commit       release.Commit  `json:"commit"`
	Files        []File          `json:"files"`
	Builds       []Build         `json:"builds"`
	LeftOut      []LeftOut       `json:"left_out,omitempty"`
	Archives     []Archive       `json:"archives"`
	Sources      []Source        `json:"sources"`
	Packages     []Package       `json:"packages,omitempty"`
	Trials       []Trial         `json:"trials,omitempty"`
	Matches      []Match         `json:"matches"`
	Destinations []Destination   `json:"destinations"`
	Notes        string          `json:"notes"`
	Effort       string          `json:"effort"` // of compression: fast, normal or small
}

// NotesName is the file with the notes of a release.
const NotesName = "notes.md"

// File is one file of the outbox.
type File struct {
	Name     string   `json:"name"`
	Kind     string   `json:"kind"`
	Platform string   `json:"platform,omitempty"`
	From     string   `json:"from"`
	To       []string `json:"to"`
}

// Build makes programs for one platform: one run of the Go tool for all of
// equal flags, or one program of another language. What belongs to a language
// is in the part named after it.
type Build struct {
	ID        string            `json:"id"`
	Language  string            `json:"language"`
	Platform  platform.Platform `json:"-"`
	Target    string            `json:"platform"`
	Dir       string            `json:"dir"` // where it runs, relative to the root
	Programs  []Output          `json:"programs"`
	Needs     []Need            `json:"needs,omitempty"`
	Toolchain string            `json:"toolchain,omitempty"` // [toolchain.NAME] that it asks for
	Env       []string          `json:"env,omitempty"`
	Go        *GoBuild          `json:"go,omitempty"`
	C         *CBuild           `json:"c,omitempty"`
	Command   *CommandBuild     `json:"command,omitempty"`
	Prebuilt  *Prebuilt         `json:"prebuilt,omitempty"`
}

// Compiler says whether it calls a C compiler, or hands one on.
func (b Build) Compiler() bool {
	return b.C != nil || b.Command != nil || (b.Go != nil && b.Go.Cgo)
}

// Names joins the names of its programs.
func (b Build) Names() string {
	names := make([]string, len(b.Programs))
	for i, p := range b.Programs {
		names[i] = p.Program
	}
	return strings.Join(names, ", ")
}

// Need is a program that must be made before, with the build that makes it.
type Need struct {
	Program string `json:"program"`
	Build   string `json:"build"`
}

// Output is one program that a build makes.
type Output struct {
	Program string     `json:"program"`
	Package string     `json:"package,omitempty"` // of Go, relative to Build.Dir
	File    string     `json:"file"`              // with the platform's ending; of a stage its path; "" when there is none
	Expect  exe.Expect `json:"expect,omitzero"`
}

// Archive is one bundle for one platform in one format.
type Archive struct {
	File     string  `json:"file"`
	Bundle   string  `json:"bundle"`
	Platform string  `json:"platform,omitempty"`
	Format   string  `json:"format"`
	Folder   string  `json:"folder,omitempty"` // inside, that holds everything
	Entries  []Entry `json:"entries"`
}

// Entry is one file in an archive: a program of a build, a file of the
// project, or a symbolic link. One with Tree stands for all that a build has in
// its stage below From; Path is the folder that it goes into then.
type Entry struct {
	Path   string      `json:"path"`
	Mode   fs.FileMode `json:"-"`
	Octal  string      `json:"mode,omitempty"`
	Tree   bool        `json:"tree,omitempty"`
	Build  string      `json:"build,omitempty"` // with Output
	Output string      `json:"output,omitempty"`
	From   string      `json:"from,omitempty"`
	Link   string      `json:"link,omitempty"`
}

// Source is one source archive.
type Source struct {
	File   string `json:"file"`
	Format string `json:"format"`
	Folder string `json:"folder"`
}

// Match tells what a pattern of a bundle found.
type Match struct {
	Bundle  string   `json:"bundle"`
	Pattern string   `json:"pattern"`
	Files   []string `json:"files"`
}

// Destination is where the files go.
type Destination struct {
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	Where string `json:"where"`
	// Takes is false when this version is a preview and the destination takes none.
	Takes bool `json:"takes"`
}

// ProjectFiles are the files of the project that go into archives and packages,
// each once.
func (p *Plan) ProjectFiles() []string {
	var out []string
	has := map[string]bool{"": true}
	add := func(name string) {
		if !has[name] {
			has[name] = true
			out = append(out, name)
		}
	}
	for _, a := range p.Archives {
		for _, e := range a.Entries {
			if e.Build == "" {
				add(e.From)
			}
		}
	}
	for _, g := range p.Packages {
		for _, e := range g.Entries {
			if e.Build == "" {
				add(e.From)
			}
		}
		for _, name := range g.Reads {
			add(name)
		}
	}
	return out
}

// Errors are all faults of a plan.
type Errors []string

func (e Errors) Error() string { return strings.Join(e, "\n") }

// New computes the plan. The error is of type Errors.
func New(c *config.Config, f Facts) (*Plan, error) {
	p := &planner{c: c, f: f, plan: &Plan{
		Project: release.Project{Name: c.Project.Name, Summary: c.Project.Summary, Homepage: c.Project.Homepage,
			Repository: c.Project.Repository, License: c.Project.License, Maintainer: c.Project.Maintainer},
		Version: f.Release.Version, Tag: f.Release.Tag, Preview: f.Release.Preview, Why: f.Release.Why,
		Commit: release.Commit{ID: f.Commit, Time: f.Time},
	}}
	p.plan.Effort = c.Packing.Effort
	p.destinations()
	p.builds()
	p.bundles()
	p.packages()
	p.sources()
	p.trials()
	if len(p.plan.Files) == 0 {
		p.fail("nothing would be made: describe a [bundle.NAME] or [source] in %s", config.FileName)
	}
	p.file(NotesName, KindNotes, "", "the commits")
	p.plan.Notes = f.Notes
	p.file(release.Name, KindManifest, "", "every file")
	p.file(release.SumsName, KindSums, "", "every file")
	p.names()
	if len(p.errors) > 0 {
		return nil, p.errors
	}
	return p.plan, nil
}

type planner struct {
	c      *config.Config
	f      Facts
	plan   *Plan
	errors Errors
	left   map[string]bool // "program platform" of what is left out
}

// failOnce reports what is the same for every platform of a program.
func (p *planner) failOnce(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(p.errors, text) {
		p.errors = append(p.errors, text)
	}
}

func (p *planner) fail(format string, args ...any) {
	p.errors = append(p.errors, fmt.Sprintf(format, args...))
}

func (p *planner) values() placeholder.Values {
	return placeholder.Values{"project": p.c.Project.Name, "version": p.plan.Version, "tag": p.plan.Tag, "commit": p.plan.Commit.ID}
}

func (p *planner) platformValues(on platform.Platform) placeholder.Values {
	v := p.values()
	v["os"], v["arch"], v["variant"] = on.OS, on.Arch, on.Variant
	return v
}

func (p *planner) destinations() {
	for _, d := range p.c.Destinations {
		where := d.URL
		if d.Kind == "folder" {
			where = d.Path
		}
		p.plan.Destinations = append(p.plan.Destinations, Destination{d.Name, d.Kind, where, !p.plan.Preview || d.Previews})
	}
}

func (p *planner) file(name, kind, platform, from string) {
	to := []string{}
	for _, d := range p.plan.Destinations {
		if d.Takes {
			to = append(to, d.Name)
		}
	}
	p.plan.Files = append(p.plan.Files, File{name, kind, platform, from, to})
}

// names refuses names that collide or that a release cannot carry.
func (p *planner) names() {
	made := map[string][]File{}
	var order []string
	for _, f := range p.plan.Files {
		key := strings.ToLower(f.Name)
		if made[key] == nil {
			order = append(order, key)
		}
		made[key] = append(made[key], f)
		if f.Kind == KindManifest || f.Kind == KindSums {
			continue
		}
		if err := release.CheckFile(f.Name); err != nil {
			p.fail("%s (made from %s): %v; change its \"name\" in %s", f.Kind, describe(f), err, config.FileName)
		}
	}
	for _, key := range order {
		files := made[key]
		if len(files) < 2 {
			continue
		}
		from := make([]string, len(files))
		for i, f := range files {
			from[i] = describe(f)
		}
		p.fail("%d files would have the name %s: %s; give them different names with \"name\", for instance by adding {os}, {arch} or {variant}",
			len(files), files[0].Name, strings.Join(from, ", "))
	}
}

func describe(f File) string {
	if f.Platform != "" {
		return fmt.Sprintf("%s for %s", f.From, f.Platform)
	}
	return f.From
}

func (p *planner) sources() {
	s := p.c.Source
	if s == nil {
		return
	}
	name := p.fill(s.File, p.values())
	for _, format := range s.Formats {
		file := name + "." + format
		p.plan.Sources = append(p.plan.Sources, Source{file, format, p.c.Project.Name + "-" + p.plan.Version})
		p.file(file, KindSource, "", "commit "+p.plan.Commit.ID[:min(8, len(p.plan.Commit.ID))])
	}
}

func (p *planner) fill(text string, v placeholder.Values) string {
	s, err := placeholder.Fill(text, v)
	if err != nil {
		p.fail("%q: %v", text, err)
	}
	return s
}
