package config

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
)

// ArchiveFormats are those that bundles and source archives can have.
var ArchiveFormats = []string{"tar.gz", "tar.xz", "tar.zst", "zip"}

// custom is a value that may be written in more than one shape.
type custom interface {
	fromNode(d *decoder, n *node, where string)
	shape() shape
}

// shape describes a custom value for the reference and the JSON Schema.
type shape struct {
	written string
	schema  map[string]any
}

// Platforms is a choice of platforms: names of sets and platforms, resolved
// into List when the whole file is known.
type Platforms struct {
	Given []string
	List  []platform.Platform
}

func (p *Platforms) fromNode(d *decoder, n *node, where string) {
	if n.kind == kindString {
		p.Given = []string{n.text}
		d.at[where+".0"] = n.pos
		return
	}
	p.Given = d.strings(n, where, "the name of a platform set, or a list of platforms and sets")
}

func (*Platforms) shape() shape {
	return shape{"text or list of texts", oneOf(textSchema, listSchema(textSchema))}
}

// Formats is a choice of archive formats by platform.
type Formats struct {
	rules map[string][]string // by "default", system or platform
	order []string
}

func (f *Formats) fromNode(d *decoder, n *node, where string) {
	f.rules = map[string][]string{}
	set := func(key string, n *node, where string) {
		var list []string
		if n.kind == kindString {
			list = []string{n.text}
			d.at[where+".0"] = n.pos
		} else {
			list = d.strings(n, where, "an archive format or a list of them")
		}
		for i, format := range list {
			d.choice(format, ArchiveFormats, fmt.Sprintf("%s.%d", where, i), "archive format")
		}
		f.rules[key] = list
		f.order = append(f.order, key)
	}
	if n.kind != kindTable {
		set("default", n, where)
		return
	}
	for _, key := range n.keys {
		d.at[where+"."+key] = n.table[key].keyPos
		set(key, n.table[key].node, where+"."+key)
	}
}

func (*Formats) shape() shape {
	one := map[string]any{"enum": ArchiveFormats}
	many := oneOf(one, listSchema(one))
	return shape{"text, list of texts, or table", oneOf(one, listSchema(one), map[string]any{"type": "object", "additionalProperties": many})}
}

// For gives the formats of a platform: its own rule, else its system's, else the default.
func (f Formats) For(p platform.Platform) []string {
	for _, key := range []string{p.String(), p.Base(), p.OS, "default"} {
		if list, ok := f.rules[key]; ok {
			return list
		}
	}
	return []string{"tar.gz"}
}

// Rule takes files of the project into an archive.
type Rule struct {
	From string // a slash-separated path or pattern, relative to the root
	To   string // a path in the archive; a folder when it ends in "/"; "" keeps the place
	Mode string // octal, or "" for 0644 and 0755
}

func (r *Rule) fromNode(d *decoder, n *node, where string) {
	switch n.kind {
	case kindString:
		r.From = n.text
		d.at[where+".from"] = n.pos
	case kindTable:
		for _, key := range n.keys {
			e := n.table[key]
			var into *string
			switch key {
			case "from":
				into = &r.From
			case "to":
				into = &r.To
			case "mode":
				into = &r.Mode
			default:
				d.unknownKey(key, []string{"from", "to", "mode"}, e.keyPos, "a file rule")
				continue
			}
			d.at[where+"."+key] = e.node.pos
			*into = d.text(e.node)
		}
		if n.table["from"] == nil {
			d.fail(n.pos, "a file rule needs \"from\": the path or pattern to take", "")
		}
	default:
		d.expected(n, "a path, or a table with from and to")
	}
}

func (*Rule) shape() shape {
	table := map[string]any{"type": "object", "additionalProperties": false, "required": []string{"from"},
		"properties": map[string]any{"from": textSchema, "to": textSchema, "mode": textSchema}}
	return shape{"text or table", oneOf(textSchema, table)}
}

// Kinds are meanings of commit types, beside those that are known anyway.
type Kinds []CommitKind

// CommitKind is the meaning of one commit type.
type CommitKind struct{ Type, Change, Heading string }

var kindChanges = []string{"none", "patch", "minor"}

func (k *Kinds) fromNode(d *decoder, n *node, where string) {
	if n.kind != kindTable {
		d.expected(n, "a table by commit type")
		return
	}
	for _, name := range n.keys {
		e := n.table[name]
		one := CommitKind{Type: strings.ToLower(name), Change: "none"}
		if e.node.kind != kindTable {
			d.expected(e.node, "a table with change and heading")
			continue
		}
		for _, key := range e.node.keys {
			v := e.node.table[key]
			at := where + "." + name + "." + key
			d.at[at] = v.node.pos
			switch key {
			case "change":
				one.Change = d.text(v.node)
				d.choice(one.Change, kindChanges, at, "change")
			case "heading":
				one.Heading = d.text(v.node)
			default:
				d.unknownKey(key, []string{"change", "heading"}, v.keyPos, "a commit type")
			}
		}
		*k = append(*k, one)
	}
}

func (*Kinds) shape() shape {
	one := map[string]any{"type": "object", "additionalProperties": false,
		"properties": map[string]any{"change": map[string]any{"enum": kindChanges}, "heading": textSchema}}
	return shape{"table of tables", map[string]any{"type": "object", "additionalProperties": one}}
}

// Secret says where a secret is, never what it is.
type Secret struct {
	From  string // "env", "file", "command", or "" when none is given
	Value string // the variable's name, the file's path, the command line
}

var secretForms = []string{"env", "file", "command"}

func (s *Secret) fromNode(d *decoder, n *node, where string) {
	text := d.text(n)
	if n.kind != kindString {
		return
	}
	from, value, ok := strings.Cut(text, ":")
	if !ok || !slices.Contains(secretForms, from) || value == "" {
		// The text may be the secret itself, so it is not repeated.
		d.fail(n.pos, "a token is never written here: say where it is, as env:NAME, file:PATH or command:LINE", "")
		return
	}
	s.From, s.Value = from, value
}

func (*Secret) shape() shape {
	return shape{"text", map[string]any{"type": "string", "pattern": "^(env|file|command):.+"}}
}

// String names the place, which is safe to show.
func (s Secret) String() string {
	if s.From == "" {
		return "no token"
	}
	return s.From + ":" + s.Value
}

var textSchema = map[string]any{"type": "string"}

func listSchema(of map[string]any) map[string]any {
	return map[string]any{"type": "array", "items": of}
}

func oneOf(shapes ...map[string]any) map[string]any {
	return map[string]any{"anyOf": shapes}
}
