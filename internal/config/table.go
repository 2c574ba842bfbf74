package config

import (
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Table describes one table of the file. Keys makes the struct that it is read
// into; the tags of its fields say what a key takes:
//
//	toml     the key
//	need     it must be there; another word than "yes" says what it is
//	default  the value in TOML that it has when it is not there
//	choice   the values that it can have, or "@LIST" for one of Lists
//	fill     the placeholders that its texts can hold
//	ref      the table whose items it names; what they are called when that differs
//	short    a plain text in the place of the table is this key
//	each     "@LIST": there is a key for each name of the list, with this value
//
// A field without a toml tag named Name gets the NAME of a named table, and one
// named Own what the chosen alternative read. Fields of embedded structs count as
// the struct's own.
type Table struct {
	Name     string
	Named    bool // [TABLE.NAME], once for each name
	Need     bool // the file must have it
	Optional bool // without it there are no keys, rather than the defaults
	Keys     func() any
	// Docs describe the table and its keys in Markdown: first the table, then a
	// heading for each key, whose last indented line is an example.
	Docs []string
	// By is a key that chooses which further keys there are, such as "kind".
	By           string
	Alternatives []Alternative
	Lists        map[string][]string
	// Check holds what was read against what it refers to. It may be nil.
	Check func(*Faults, *Document)
}

// Alternative is what one value of a table's By key brings with it.
type Alternative struct {
	Name string
	Keys func() any
	Docs []string
}

func (t Table) alternative(name string) (Alternative, bool) {
	i := slices.IndexFunc(t.Alternatives, func(a Alternative) bool { return a.Name == name })
	if i < 0 {
		return Alternative{}, false
	}
	return t.Alternatives[i], true
}

func (t Table) alternativeNames() []string {
	var out []string
	for _, a := range t.Alternatives {
		out = append(out, a.Name)
	}
	return out
}

// field is a key as a struct's field describes it.
type field struct {
	key, def, ref, refName string
	need                   string
	short                  bool
	choice, fill, each     []string
	index                  []int
	typ                    reflect.Type
}

// fieldsOf are the keys of a struct, those of embedded ones among them.
func fieldsOf(t reflect.Type, lists map[string][]string) []field {
	var out []field
	for i := range t.NumField() {
		f := t.Field(i)
		key := f.Tag.Get("toml")
		if f.Anonymous && key == "" && f.Type.Kind() == reflect.Struct {
			for _, inner := range fieldsOf(f.Type, lists) {
				inner.index = append([]int{i}, inner.index...)
				out = append(out, inner)
			}
			continue
		}
		if key == "" || key == "-" {
			continue
		}
		ref, refName, _ := strings.Cut(f.Tag.Get("ref"), " ")
		if refName == "" {
			refName = ref
		}
		out = append(out, field{key: key, def: f.Tag.Get("default"), need: f.Tag.Get("need"), ref: ref,
			refName: refName,
			short:   f.Tag.Get("short") != "", choice: words(f.Tag.Get("choice"), lists),
			fill: words(f.Tag.Get("fill"), lists),
			each: words(f.Tag.Get("each"), lists), index: []int{i}, typ: f.Type})
	}
	return out
}

// words are those of a tag, or a list that the table names.
func words(tag string, lists map[string][]string) []string {
	if name, ok := strings.CutPrefix(tag, "@"); ok {
		return lists[name]
	}
	return strings.Fields(tag)
}

// quoted writes a text as TOML.
func quoted(s string) string { return strconv.Quote(s) }
