// Package plan turns a description and what git knows into everything that will
// be made, from what and under which names. It is a pure function: it reads the
// project's files through an fs.FS and changes nothing. What each table of the
// description asks for is planned by a Part of its own.
package plan

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/project"
	"piedmont/internal/project/version"
	"piedmont/internal/release"
)

// Part plans what one table of the description asks for.
type Part interface {
	Table() config.Table
	Plan(c *Context)
}

// Facts are what a plan needs besides the description.
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

// Plan is everything that will be made.
type Plan struct {
	Project      release.Project
	Version      string
	Tag          string
	Preview      bool
	Reason       version.Reason // of a preview
	Why          string
	Commit       release.Commit
	Artifacts    []*release.Artifact // in the order in which they are told
	Builds       []*Build            // what is needed comes first
	LeftOut      []LeftOut
	Matches      []Match
	Destinations []Destination
	Notes        string
	Effort       string // of compression: fast, normal or small

	sections []section
}

// Match tells what a pattern found.
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
// each once, with those that are read for them.
func (p *Plan) ProjectFiles() []string {
	var out []string
	has := map[string]bool{"": true}
	add := func(name string) {
		if !has[name] {
			has[name] = true
			out = append(out, name)
		}
	}
	for _, a := range p.Artifacts {
		for _, e := range a.Entries {
			if e.From.Build == "" {
				add(e.From.Path)
			}
		}
		if r, ok := a.Detail.(interface{ ReadFiles() []string }); ok {
			for _, name := range r.ReadFiles() {
				add(name)
			}
		}
	}
	return out
}

// Errors are all faults of a plan.
type Errors []string

func (e Errors) Error() string { return strings.Join(e, "\n") }

// ExitStatus is that of a wrong configuration.
func (Errors) ExitStatus() fault.Status { return fault.Usage }

// New computes the plan, part by part. The error is of type Errors.
func New(d *config.Document, f Facts, parts []Part) (*Plan, error) {
	c := &Context{Doc: d, Facts: f, left: map[string]bool{}, Plan: &Plan{
		Project: project.Of(d).Release(),
		Version: f.Release.Version, Tag: f.Release.Tag, Preview: f.Release.Preview, Reason: f.Release.Reason,
		Why:    f.Release.Why,
		Commit: release.Commit{ID: f.Commit, Time: f.Time}, Notes: f.Notes, Effort: packingOf(d).Effort,
	}}
	for _, p := range parts {
		p.Plan(c)
	}
	c.names()
	if len(c.errors) > 0 {
		return nil, c.errors
	}
	return c.Plan, nil
}

// Context is what parts plan in.
type Context struct {
	Doc *config.Document
	Facts
	Plan   *Plan
	errors Errors
	left   map[string]bool // "program platform" of what is left out
}

// Failed says whether anything was reported.
func (c *Context) Failed() bool { return len(c.errors) > 0 }

// Fail reports a fault.
func (c *Context) Fail(format string, args ...any) {
	c.errors = append(c.errors, fmt.Sprintf(format, args...))
}

// FailOnce reports what is the same for every platform.
func (c *Context) FailOnce(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(c.errors, text) {
		c.errors = append(c.errors, text)
	}
}

// Values are the placeholders that every text can have.
func (c *Context) Values() placeholder.Values {
	return placeholder.Values{"project": c.Plan.Project.Name, "version": c.Plan.Version, "tag": c.Plan.Tag,
		"commit": c.Plan.Commit.ID}
}

// PlatformValues are those of texts for one platform.
func (c *Context) PlatformValues(on platform.Platform) placeholder.Values {
	v := c.Values()
	v["os"], v["arch"], v["variant"] = on.OS, on.Arch, on.Variant
	return v
}

// Fill fills a text; a placeholder that there is none of is a fault.
func (c *Context) Fill(text string, v placeholder.Values) string {
	s, err := placeholder.Fill(text, v)
	if err != nil {
		c.Fail("%q: %v", text, err)
	}
	return s
}

// FillAll fills a list of texts.
func (c *Context) FillAll(texts []string, v placeholder.Values) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = c.Fill(t, v)
	}
	return out
}

// Add plans a file of the release.
func (c *Context) Add(a *release.Artifact) {
	a.To = []string{}
	for _, d := range c.Plan.Destinations {
		if d.Takes {
			a.To = append(a.To, d.Name)
		}
	}
	c.Plan.Artifacts = append(c.Plan.Artifacts, a)
}

// names refuses names that collide or that a release cannot carry.
func (c *Context) names() {
	made := map[string][]*release.Artifact{}
	var order []string
	for _, a := range c.Plan.Artifacts {
		key := strings.ToLower(a.Name)
		if made[key] == nil {
			order = append(order, key)
		}
		made[key] = append(made[key], a)
		if a.Kind == release.KindManifest || a.Kind == release.KindSums {
			continue
		}
		if err := release.CheckFile(a.Name); err != nil {
			c.Fail("%s (made from %s): %v; change its \"name\" in %s", a.Kind, describe(a), err, config.FileName)
		}
	}
	for _, key := range order {
		list := made[key]
		if len(list) < 2 {
			continue
		}
		from := make([]string, len(list))
		for i, a := range list {
			from[i] = describe(a)
		}
		c.Fail("%d files would have the name %s: %s; give them different names with \"name\", for instance "+
			"by adding {os}, {arch} or {variant}",
			len(list), list[0].Name, strings.Join(from, ", "))
	}
}

func describe(a *release.Artifact) string {
	if a.Platform != "" {
		return fmt.Sprintf("%s for %s", a.MadeFrom, a.Platform)
	}
	return a.MadeFrom
}
