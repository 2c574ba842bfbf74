package changelog

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/format/tomltree"
)

//go:embed keys.md
var docs string

// Keys are those of [cut].
type Keys struct {
	Changelog string      `toml:"changelog" default:"\"CHANGELOG.md\""`
	Early     string      `toml:"early" default:"\"minor\"" choice:"minor major"`
	Kinds     CommitKinds `toml:"kinds"`
}

// CommitKinds are meanings of commit types, in the order of the file.
type CommitKinds []CommitKind

// CommitKind is the meaning of one commit type.
type CommitKind struct{ Type, Change, Heading string }

// Table describes [cut].
func Table() config.Table {
	return config.Table{Name: "cut", Keys: func() any { return &Keys{} }, Docs: []string{docs},
		Check: func(f *config.Faults, d *config.Document) { f.Inside("cut.changelog", Of(d).Changelog) }}
}

// Of gives the keys of a description.
func Of(d *config.Document) *Keys { return config.One[Keys](d, "cut") }

// Rules gives the meaning of commits that a description asks for.
func (k *Keys) Rules() Rules {
	r := DefaultRules()
	r.Early = k.Early
	for _, one := range k.Kinds {
		r.Kinds[one.Type] = Kind{Change: one.Change, Heading: one.Heading}
		if !slices.Contains(r.Order, one.Type) {
			r.Order = append(r.Order, one.Type)
		}
	}
	return r
}

var kindChanges = []string{None, Patch, Minor}

// Read reads a table by commit type.
func (k *CommitKinds) Read(r *config.Reader, n *config.Node, where string, _ []string) {
	if n.Kind != tomltree.Table {
		r.Expected(n, "a table by commit type")
		return
	}
	for _, name := range n.Keys {
		e := n.Get(name)
		one := CommitKind{Type: strings.ToLower(name), Change: None}
		if e.Node.Kind != tomltree.Table {
			r.Expected(e.Node, "a table with change and heading")
			continue
		}
		for _, key := range e.Node.Keys {
			v := e.Node.Get(key)
			at := fmt.Sprintf("%s.%s.%s", where, name, key)
			r.Mark(at, v.Node.Pos)
			switch key {
			case "change":
				one.Change = r.Text(v.Node)
				r.Choice(at, "change", one.Change, kindChanges)
			case "heading":
				one.Heading = r.Text(v.Node)
			default:
				r.UnknownKey(v.KeyPos, key, []string{"change", "heading"}, "a commit type")
			}
		}
		*k = append(*k, one)
	}
}

// Shape is a table of tables.
func (*CommitKinds) Shape([]string) config.Shape {
	one := map[string]any{"type": "object", "additionalProperties": false,
		"properties": map[string]any{"change": map[string]any{"enum": kindChanges}, "heading": config.TextSchema()}}
	return config.Shape{Written: "table of tables", Schema: map[string]any{"type": "object",
		"additionalProperties": one}}
}
