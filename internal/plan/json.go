package plan

import (
	"bytes"
	"encoding/json"

	"piedmont/internal/release"
)

// section is what a part adds to the plan beyond files and builds.
type section struct {
	name  string
	value any
}

// Set keeps something of a part's own under a name, which is also its name in the
// plan's JSON.
func (p *Plan) Set(name string, value any) { p.sections = append(p.sections, section{name, value}) }

// Get gives what a part has kept; the zero value when there is nothing.
func Get[T any](p *Plan, name string) T {
	for _, s := range p.sections {
		if s.name == name {
			return s.value.(T)
		}
	}
	var none T
	return none
}

// file is an artifact as a plan tells it.
type file struct {
	Name     string   `json:"name"`
	Kind     string   `json:"kind"`
	Platform string   `json:"platform,omitempty"`
	From     string   `json:"from"`
	To       []string `json:"to"`
}

// MarshalJSON writes the plan; docs/commands.md describes it.
func (p *Plan) MarshalJSON() ([]byte, error) {
	w := &object{}
	w.add("project", p.Project)
	w.add("version", p.Version)
	w.add("tag", p.Tag)
	w.add("preview", p.Preview)
	if p.Why != "" {
		w.add("why_preview", p.Why)
	}
	w.add("commit", p.Commit)
	var files []file
	for _, a := range p.Artifacts {
		files = append(files, file{a.Name, a.Kind, a.Platform, a.MadeFrom, a.To})
	}
	w.add("files", files)
	w.add("builds", p.Builds)
	if len(p.LeftOut) > 0 {
		w.add("left_out", p.LeftOut)
	}
	for _, s := range p.sections {
		w.add(s.name, s.value)
	}
	w.add("matches", p.Matches)
	w.add("destinations", p.Destinations)
	w.add("notes", p.Notes)
	w.add("effort", p.Effort)
	return w.bytes()
}

// MarshalJSON writes a build, with what its language has planned under the
// language's name.
func (b *Build) MarshalJSON() ([]byte, error) {
	w := &object{}
	w.add("id", b.ID)
	w.add("language", b.Language)
	w.add("platform", b.Target)
	w.add("dir", b.Dir)
	w.add("programs", b.Programs)
	if len(b.Needs) > 0 {
		w.add("needs", b.Needs)
	}
	if b.Toolchain != "" {
		w.add("toolchain", b.Toolchain)
	}
	if len(b.Env) > 0 {
		w.add("env", b.Env)
	}
	w.add(b.Language, b.Job)
	return w.bytes()
}

// PlannedEntry is an entry as a plan's JSON tells it.
type PlannedEntry struct {
	Path   string `json:"path"`
	Mode   string `json:"mode,omitempty"`
	Tree   bool   `json:"tree,omitempty"`
	Build  string `json:"build,omitempty"` // with Output
	Output string `json:"output,omitempty"`
	From   string `json:"from,omitempty"`
	Link   string `json:"link,omitempty"`
}

// Told is an entry as a plan's JSON tells it.
func Told(e release.Entry) PlannedEntry {
	out := PlannedEntry{Path: e.Path, Mode: octal(e), Tree: e.From.Tree, Build: e.From.Build, Link: e.Link}
	if e.From.Build != "" && !e.From.Tree {
		out.Output = e.From.Path
	} else {
		out.From = e.From.Path
	}
	return out
}

// object writes a JSON object with its keys in the order of their adding.
type object struct {
	buf bytes.Buffer
	err error
}

func (o *object) add(key string, value any) {
	if o.err != nil {
		return
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if o.err = enc.Encode(value); o.err != nil {
		return
	}
	sep := byte(',')
	if o.buf.Len() == 0 {
		sep = '{'
	}
	o.buf.WriteByte(sep)
	name, _ := json.Marshal(key) // a text always can be
	o.buf.Write(name)
	o.buf.WriteByte(':')
	o.buf.Write(bytes.TrimRight(b.Bytes(), "\n"))
}

func (o *object) bytes() ([]byte, error) {
	o.buf.WriteByte('}')
	return o.buf.Bytes(), o.err
}
