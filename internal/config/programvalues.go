package config

import (
	"fmt"
	"slices"

	"github.com/dustin/go-humanize"

	"piedmont/internal/format/exe"
)

// keys reads a table whose keys are known; each gets its node.
func (d *decoder) keys(n *node, where, table string, order []string, read map[string]func(n *node, at string)) {
	for _, key := range n.keys {
		e := n.table[key]
		do := read[key]
		if do == nil {
			d.unknownKey(key, order, e.keyPos, table)
			continue
		}
		at := where + "." + key
		d.at[at] = e.node.pos
		do(e.node, at)
	}
}

func (d *decoder) bool(n *node) bool {
	if n.kind != kindBool {
		d.expected(n, "true or false")
		return false
	}
	v, _ := n.bool()
	return v
}

// Texts is one text or several.
type Texts []string

func (t *Texts) fromNode(d *decoder, n *node, where string) {
	if n.kind == kindString {
		*t = Texts{n.text}
		d.at[where+".0"] = n.pos
		return
	}
	*t = d.strings(n, where, "a text or a list of texts")
}

func (*Texts) shape() shape {
	return shape{"text or list of texts", oneOf(textSchema, listSchema(textSchema))}
}

// Commands is one command or several, each a program with its arguments.
type Commands [][]string

func (c *Commands) fromNode(d *decoder, n *node, where string) {
	const what = "a command as a list of texts, or a list of commands"
	if n.kind != kindArray {
		d.expected(n, what+"; a shell must be named: [\"sh\", \"-c\", \"...\"]")
		return
	}
	if len(n.items) > 0 && n.items[0].kind == kindString {
		*c = Commands{d.strings(n, where+".0", what)}
		return
	}
	for i, item := range n.items {
		at := fmt.Sprintf("%s.%d", where, i)
		d.at[at] = item.pos
		words := d.strings(item, at, what)
		if len(words) == 0 && item.kind == kindArray {
			d.fail(item.pos, "a command cannot be empty", "")
		}
		*c = append(*c, words)
	}
}

func (*Commands) shape() shape {
	return shape{"list of texts, or list of such lists", oneOf(listSchema(textSchema), listSchema(listSchema(textSchema)))}
}

// Tree takes what a program installed into its stage into an archive.
type Tree struct {
	Program string
	From    string // a folder, file or pattern in the stage; "" is all of it
	To      string // a folder in the archive
}

var treeKeys = []string{"program", "from", "to"}

func (t *Tree) fromNode(d *decoder, n *node, where string) {
	switch n.kind {
	case kindString:
		t.Program = n.text
		d.at[where+".program"] = n.pos
	case kindTable:
		text := func(into *string) func(*node, string) {
			return func(n *node, _ string) { *into = d.text(n) }
		}
		d.keys(n, where, "a tree", treeKeys, map[string]func(*node, string){"program": text(&t.Program), "from": text(&t.From), "to": text(&t.To)})
		if n.table["program"] == nil {
			d.fail(n.pos, "a tree needs \"program\": whose stage it is taken from", "")
		}
	default:
		d.expected(n, "a program's name, or a table with program, from and to")
	}
}

func (*Tree) shape() shape {
	table := map[string]any{"type": "object", "additionalProperties": false, "required": []string{"program"},
		"properties": map[string]any{"program": textSchema, "from": textSchema, "to": textSchema}}
	return shape{"text or table", oneOf(textSchema, table)}
}

// Expect is what must be true of an executable.
type Expect struct{ exe.Expect }

var (
	expectKeys = []string{"linkage", "libc-at-most", "largest", "stripped", "no-paths", "contains-version", "needs-only", "loader"}
	linkages   = []string{exe.Static, exe.Dynamic}
)

func (x *Expect) fromNode(d *decoder, n *node, where string) {
	if n.kind != kindTable {
		d.expected(n, "a table such as { linkage = \"static\" }")
		return
	}
	e := &x.Expect
	d.keys(n, where, "expect", expectKeys, map[string]func(*node, string){
		"linkage": func(n *node, at string) {
			e.Linkage = d.text(n)
			d.choice(e.Linkage, linkages, at, "linkage")
		},
		"libc-at-most": func(n *node, at string) {
			if e.LibcAtMost = d.text(n); n.kind == kindString && !exe.IsNumber(e.LibcAtMost) {
				d.fail(n.pos, fmt.Sprintf("%q is not a version of glibc", e.LibcAtMost), "write it as in \"2.28\"")
			}
		},
		"largest": func(n *node, at string) {
			size, err := humanize.ParseBytes(d.text(n))
			if n.kind == kindString && (err != nil || size == 0 || size > 1<<50) {
				d.fail(n.pos, fmt.Sprintf("%q is not a size", n.text), "write it as in \"12 MiB\"")
			}
			e.Largest = int64(size)
		},
		"loader":           func(n *node, _ string) { e.Loader = d.text(n) },
		"stripped":         func(n *node, _ string) { e.Stripped = d.bool(n) },
		"no-paths":         func(n *node, _ string) { e.NoPaths = d.bool(n) },
		"contains-version": func(n *node, _ string) { e.ContainsVersion = d.bool(n) },
		"needs-only": func(n *node, at string) {
			if e.NeedsOnly = d.strings(n, at, "a list of libraries"); e.NeedsOnly == nil {
				e.NeedsOnly = []string{}
			}
		},
	})
}

func (*Expect) shape() shape {
	yes := map[string]any{"type": "boolean"}
	return shape{"table", map[string]any{"type": "object", "additionalProperties": false, "properties": map[string]any{
		"linkage": map[string]any{"enum": linkages}, "libc-at-most": textSchema, "largest": textSchema,
		"stripped": yes, "no-paths": yes, "contains-version": yes, "needs-only": listSchema(textSchema), "loader": textSchema}}}
}

// Outcome is what a trial must bring about.
type Outcome struct {
	Status   int      `json:"status"`
	Is       string   `json:"is,omitempty"`
	Contains []string `json:"contains,omitempty"`
	Matches  string   `json:"matches,omitempty"`
	File     string   `json:"file,omitempty"`
}

var outcomeKeys = []string{"status", "is", "contains", "matches", "file"}

func (o *Outcome) fromNode(d *decoder, n *node, where string) {
	switch n.kind {
	case kindString:
		o.Is = n.text
		d.at[where+".is"] = n.pos
	case kindTable:
		text := func(into *string) func(*node, string) {
			return func(n *node, _ string) { *into = d.text(n) }
		}
		d.keys(n, where, "expect", outcomeKeys, map[string]func(*node, string){
			"is": text(&o.Is), "matches": text(&o.Matches), "file": text(&o.File),
			"contains": func(n *node, at string) { (*Texts)(&o.Contains).fromNode(d, n, at) },
			"status": func(n *node, _ string) {
				if _, err := fmt.Sscan(n.text, &o.Status); n.kind != kindNumber || err != nil || o.Status < 0 || o.Status > 255 {
					d.expected(n, "an exit status from 0 to 255")
				}
			},
		})
	default:
		d.expected(n, "the output, or a table with what is expected")
	}
}

func (*Outcome) shape() shape {
	properties := map[string]any{"status": map[string]any{"type": "integer"}, "contains": oneOf(textSchema, listSchema(textSchema))}
	for _, key := range []string{"is", "matches", "file"} {
		properties[key] = textSchema
	}
	return shape{"text or table", oneOf(textSchema, map[string]any{"type": "object", "additionalProperties": false, "properties": properties})}
}

// toolNames are the tools that a toolchain may name.
var toolNames = []string{"cc", "cxx", "ar", "ranlib", "strip", "nm", "objcopy", "ld", "windres"}

func knownTool(name string) bool { return slices.Contains(toolNames, name) }
