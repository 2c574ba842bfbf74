package config

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/agext/levenshtein"

	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
)

// Error is one fault of a file.
type Error struct {
	File    string
	Pos     Pos
	Message string
	Hint    string // what to write instead, or ""
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", e.File, e.Pos.Line, e.Pos.Column, e.Message)
	if e.Hint != "" {
		s += "; " + e.Hint
	}
	return s
}

// Errors are all faults of a file, in the order of the file.
type Errors []*Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, one := range e {
		lines[i] = one.Error()
	}
	return strings.Join(lines, "\n")
}

// decoder fills structs from the tree and collects every fault.
type decoder struct {
	file   string
	errors Errors
	at     map[string]Pos // where each value stands, by its path: program.hutbell.source
}

func (d *decoder) fail(pos Pos, message, hint string) {
	d.errors = append(d.errors, &Error{File: d.file, Pos: pos, Message: message, Hint: hint})
}

func (d *decoder) expected(n *node, what string) {
	d.fail(n.pos, fmt.Sprintf("expected %s, found %s", what, n.kind), "")
}

func (d *decoder) text(n *node) string {
	if n.kind != kindString {
		d.expected(n, "a text in quotes")
		return ""
	}
	return n.text
}

func (d *decoder) strings(n *node, where, what string) []string {
	if n.kind != kindArray {
		d.expected(n, what)
		return nil
	}
	var out []string
	for i, item := range n.items {
		d.at[fmt.Sprintf("%s.%d", where, i)] = item.pos
		out = append(out, d.text(item))
	}
	return out
}

func (d *decoder) unknownKey(key string, known []string, pos Pos, table string) {
	hint := near(key, known)
	if hint == "" {
		hint = "here there are " + strings.Join(known, ", ")
	}
	d.fail(pos, fmt.Sprintf("unknown key %q in %s", key, table), hint)
}

func (d *decoder) choice(value string, known []string, where, what string) {
	if value == "" || len(known) == 0 || slices.Contains(known, value) {
		return
	}
	d.unknownName(where, what, value, known)
}

// unknownName reports a reference to something that does not exist.
func (d *decoder) unknownName(where, what, name string, known []string) {
	hint := near(name, known)
	switch {
	case hint != "":
	case len(known) == 0:
		hint = "none is defined"
	case len(known) <= 12:
		hint = "there are " + strings.Join(known, ", ")
	}
	d.fail(d.at[where], fmt.Sprintf("unknown %s %q", what, name), hint)
}

// near suggests the known name closest to a misspelt one.
func near(name string, known []string) string {
	if best := Near(name, known); best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	return ""
}

// table fills a struct from a table node; where is the path of the table.
func (d *decoder) table(n *node, into reflect.Value, where string) {
	name := "[" + where + "]"
	if where == "" {
		name = "the file"
	}
	if n.kind != kindTable {
		d.expected(n, "a table")
		return
	}
	fields := map[string]reflect.StructField{}
	var known []string
	for _, f := range fieldsOf(into.Type()) {
		fields[f.Tag.Get("toml")] = f
		known = append(known, f.Tag.Get("toml"))
	}
	for _, key := range n.keys {
		e := n.table[key]
		f, ok := fields[key]
		if !ok {
			d.unknownKey(key, known, e.keyPos, name)
			continue
		}
		d.value(e, into.FieldByIndex(f.Index), f, join(where, key))
	}
	for _, key := range known {
		if fields[key].Tag.Get("need") == "" || n.table[key] != nil {
			continue
		}
		if where == "" {
			d.fail(n.pos, fmt.Sprintf("the table [%s] is missing", key), "")
		} else {
			d.fail(n.pos, fmt.Sprintf("%s needs the key %q", name, key), "such as "+key+" = "+fields[key].Tag.Get("example"))
		}
	}
}

func fieldsOf(t reflect.Type) []reflect.StructField {
	var out []reflect.StructField
	for f := range fieldSeq(t) {
		if tag := f.Tag.Get("toml"); tag != "" && tag != "-" {
			out = append(out, f)
		}
	}
	return out
}

func fieldSeq(t reflect.Type) func(func(reflect.StructField) bool) {
	return func(yield func(reflect.StructField) bool) {
		for i := range t.NumField() {
			if !yield(t.Field(i)) {
				return
			}
		}
	}
}

func (d *decoder) value(e *entry, into reflect.Value, f reflect.StructField, where string) {
	n := e.node
	d.at[where] = n.pos
	if c, ok := into.Addr().Interface().(custom); ok {
		c.fromNode(d, n, where)
		return
	}
	switch v := into.Addr().Interface().(type) {
	case *string:
		*v = d.text(n)
		d.choice(*v, strings.Fields(f.Tag.Get("choice")), where, strings.ReplaceAll(f.Tag.Get("toml"), "-", " "))
		d.placeholders(*v, f, where)
	case *bool:
		if n.kind != kindBool {
			d.expected(n, "true or false")
			return
		}
		*v, _ = n.bool()
	case *int:
		number, err := strconv.Atoi(n.text)
		if n.kind != kindNumber || err != nil || number < 0 {
			d.expected(n, "a whole number, 0 or more")
			return
		}
		*v = number
	case *[]string:
		*v = d.strings(n, where, "a list of texts")
		for i, s := range *v {
			d.choice(s, strings.Fields(f.Tag.Get("choice")), fmt.Sprintf("%s.%d", where, i), strings.TrimSuffix(f.Tag.Get("toml"), "s"))
		}
	case *map[string]string:
		if n.kind != kindTable {
			d.expected(n, "a table of texts")
			return
		}
		*v = map[string]string{}
		for _, key := range n.keys {
			d.at[join(where, key)] = n.table[key].node.pos
			(*v)[key] = d.text(n.table[key].node)
			d.placeholders((*v)[key], f, join(where, key))
		}
	case *[]Rule:
		*v = lists[Rule](d, n, where, "a list of paths and tables")
	case *[]Tree:
		*v = lists[Tree](d, n, where, "a list of programs and tables")
	case *[]Placed:
		*v = lists[Placed](d, n, where, "a list of tables with from and to")
	case *[]Account:
		*v = lists[Account](d, n, where, "a list of tables with name")
	case *[]*PlatformSet:
		*v = d.platformSets(n, where)
	default:
		d.tables(e, into, where)
	}
}

var itemName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]*$`)

// tables fills a struct, a pointer to one, or a list of named ones.
func (d *decoder) tables(e *entry, into reflect.Value, where string) {
	n := e.node
	switch into.Kind() {
	case reflect.Struct:
		d.table(n, into, where)
	case reflect.Pointer:
		into.Set(reflect.New(into.Type().Elem()))
		d.table(n, into.Elem(), where)
	case reflect.Slice:
		if n.kind != kindTable {
			d.fail(n.pos, fmt.Sprintf("expected tables with a name each, as in [%s.NAME]", where), "")
			return
		}
		for _, name := range n.keys {
			one := n.table[name]
			d.at[join(where, name)] = one.keyPos
			if !itemName.MatchString(name) {
				d.fail(one.keyPos, fmt.Sprintf("%q cannot be a name: use letters, digits, hyphens and underscores", name), "")
				continue
			}
			item := reflect.New(into.Type().Elem().Elem())
			item.Elem().FieldByName("Name").SetString(name)
			if one.node.kind != kindTable {
				d.fail(one.keyPos, fmt.Sprintf("unknown key %q in [%s]", name, where), fmt.Sprintf("it holds tables with a name each, as in [%s.NAME]", where))
				continue
			}
			d.table(one.node, item.Elem(), join(where, name))
			into.Set(reflect.Append(into, item))
		}
	default:
		panic("config: no way to read " + into.Type().String())
	}
}

func (d *decoder) platformSets(n *node, where string) []*PlatformSet {
	if n.kind != kindTable {
		d.expected(n, "a table of lists")
		return nil
	}
	var sets []*PlatformSet
	for _, name := range n.keys {
		at := join(where, name)
		set := &PlatformSet{Name: name}
		d.at[at] = n.table[name].keyPos
		for i, s := range d.strings(n.table[name].node, at, "a list of platforms") {
			p, err := platform.Parse(s)
			if err != nil {
				d.fail(d.at[fmt.Sprintf("%s.%d", at, i)], err.Error(), "")
				continue
			}
			set.List = append(set.List, p)
			d.at[at+"."+p.String()] = d.at[fmt.Sprintf("%s.%d", at, i)]
		}
		sets = append(sets, set)
	}
	return sets
}

func (d *decoder) placeholders(text string, f reflect.StructField, where string) {
	fill := f.Tag.Get("fill")
	if fill == "" {
		return
	}
	err := placeholder.Check(text, strings.Fields(fill))
	if err == nil {
		return
	}
	pos := d.at[where]
	if bad, ok := err.(*placeholder.Error); ok {
		pos.Column += 1 + bad.Offset // after the opening quote
	}
	d.fail(pos, err.Error(), "")
}

func join(where, key string) string {
	if where == "" {
		return key
	}
	return where + "." + key
}

// Near gives the known name closest to a misspelt one, or "".
func Near(name string, known []string) string {
	best, distance := "", len(name)/2+1
	for _, k := range known {
		if n := levenshtein.Distance(strings.ToLower(name), strings.ToLower(k), nil); n < distance {
			best, distance = k, n
		}
	}
	return best
}
