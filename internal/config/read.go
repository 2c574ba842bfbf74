package config

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"piedmont/internal/format/tomltree"
)

// Node is a value of the file with its place.
type Node = tomltree.Node

// Value is a type that reads itself, since it can be written in more than one
// shape. choice are the values of the key's choice tag.
type Value interface {
	Read(r *Reader, n *Node, where string, choice []string)
	Shape(choice []string) Shape
}

// Words say what a struct in the place of a value is called, in faults.
type Words struct {
	Name string // such as "a file rule"
	One  string // what is expected in its place
	List string // what is expected in the place of a list of them
}

// Worded is a struct with words of its own.
type Worded interface{ Words() Words }

// Reader fills structs from the tree and collects every fault.
type Reader struct {
	*Faults
	lists     map[string][]string
	tables    []Table
	platforms []pendingPlatforms
	refs      []pendingRef
}

type pendingPlatforms struct {
	into  *Platforms
	where string
}

type pendingRef struct{ where, table, what, name string }

// Mark notes where something stands.
func (r *Reader) Mark(where string, pos Pos) { r.at[where] = pos }

// Expected reports a value of the wrong kind.
func (r *Reader) Expected(n *Node, what string) {
	r.failAt(n.Pos, fmt.Sprintf("expected %s, found %s", what, n.Kind), "")
}

// Text reads a text.
func (r *Reader) Text(n *Node) string {
	if n.Kind != tomltree.String {
		r.Expected(n, "a text in quotes")
		return ""
	}
	return n.Text
}

// Texts reads a list of texts.
func (r *Reader) Texts(n *Node, where, what string) []string {
	if n.Kind != tomltree.Array {
		r.Expected(n, what)
		return nil
	}
	out := []string{}
	for i, item := range n.Items {
		r.Mark(fmt.Sprintf("%s.%d", where, i), item.Pos)
		out = append(out, r.Text(item))
	}
	return out
}

// document reads all tables of the file.
func (r *Reader) document(root *Node, d *Document, tables []Table) {
	var known []string
	r.tables = tables
	for _, t := range tables {
		known = append(known, t.Name)
	}
	for _, key := range root.Keys {
		if !slices.Contains(known, key) {
			r.UnknownKey(root.Get(key).KeyPos, key, known, "the file")
		}
	}
	for _, t := range tables {
		s := &section{}
		d.sections[t.Name] = s
		r.lists = t.Lists
		e := root.Get(t.Name)
		switch {
		case e != nil && t.Named:
			s.given = true
			r.named(e.Node, t, s)
			continue
		case e != nil:
			s.given = true
			r.Mark(t.Name, e.Node.Pos)
			s.one = t.Keys()
			if v, ok := s.one.(Value); ok {
				v.Read(r, e.Node, t.Name, nil)
				continue
			}
			r.table(e.Node, reflect.ValueOf(s.one).Elem(), t.Name, "["+t.Name+"]")
			continue
		case t.Need:
			r.failAt(root.Pos, fmt.Sprintf("the table [%s] is missing", t.Name), "")
		}
		if !t.Named && !t.Optional {
			s.one = t.Keys()
			if _, ok := s.one.(Value); ok {
				continue // it has no keys of its own, and nothing is its default
			}
			r.defaults(reflect.ValueOf(s.one).Elem(), nil, t.Name)
		}
	}
}

var itemName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]*$`)

// named reads the tables [TABLE.NAME].
func (r *Reader) named(n *Node, t Table, s *section) {
	if n.Kind != tomltree.Table {
		r.failAt(n.Pos, fmt.Sprintf("expected tables with a name each, as in [%s.NAME]", t.Name), "")
		return
	}
	for _, name := range n.Keys {
		e := n.Get(name)
		where := t.Name + "." + name
		r.Mark(where, e.KeyPos)
		if !itemName.MatchString(name) {
			r.failAt(e.KeyPos, fmt.Sprintf("%q cannot be a name: use letters, digits, hyphens and underscores",
				name), "")
			continue
		}
		if e.Node.Kind != tomltree.Table {
			r.failAt(e.KeyPos, fmt.Sprintf("unknown key %q in [%s]", name, t.Name),
				fmt.Sprintf("it holds tables with a name each, as in [%s.NAME]", t.Name))
			continue
		}
		keys := t.Keys()
		v := reflect.ValueOf(keys).Elem()
		v.FieldByName("Name").SetString(name)
		if t.By == "" {
			r.table(e.Node, v, where, "["+where+"]")
		} else {
			r.chosen(e.Node, t, v, where)
		}
		s.many, s.names = append(s.many, keys), append(s.names, name)
	}
}

// chosen reads a table of which one key says what others there are.
func (r *Reader) chosen(n *Node, t Table, into reflect.Value, where string) {
	common := fieldsOf(into.Type(), t.Lists)
	choice := ""
	if e := n.Get(t.By); e != nil && e.Node.Kind == tomltree.String {
		choice = e.Node.Text
	}
	alt, ok := t.alternative(choice)
	var own reflect.Value
	var fields []field
	if ok {
		keys := alt.Keys()
		own = reflect.ValueOf(keys).Elem()
		fields = fieldsOf(own.Type(), t.Lists)
		into.FieldByName("Own").Set(reflect.ValueOf(keys))
	}
	for _, key := range n.Keys {
		e := n.Get(key)
		at := where + "." + key
		if f, ok := find(common, key); ok {
			if f.key == t.By {
				f.choice = t.alternativeNames()
			}
			r.value(e.Node, into.FieldByIndex(f.index), f, at)
			continue
		}
		if f, ok := find(fields, key); ok {
			r.value(e.Node, own.FieldByIndex(f.index), f, at)
			continue
		}
		r.misplaced(e, t, choice, append(slices.Clone(common), fields...), key, where)
	}
	title := "[" + where + "]"
	r.missing(n, common, where, title)
	r.defaults(into, n, where)
	if !ok {
		return
	}
	if t.By == "kind" {
		title = fmt.Sprintf("[%s] of kind %q", where, choice)
	}
	r.missing(n, fields, where, title)
	r.defaults(own, n, where)
}

// misplaced reports a key that the chosen alternative does not have.
func (r *Reader) misplaced(e *tomltree.Entry, t Table, choice string, have []field, key, where string) {
	var others []string
	for _, a := range t.Alternatives {
		if _, ok := find(fieldsOf(reflect.TypeOf(a.Keys()).Elem(), t.Lists), key); ok {
			others = append(others, a.Name)
		}
	}
	r.Mark(where+"."+key, e.Node.Pos)
	_, known := t.alternative(choice)
	switch {
	case len(others) == 0:
		var names []string
		for _, f := range have {
			names = append(names, f.key)
		}
		r.UnknownKey(e.KeyPos, key, names, "["+where+"]")
	case !known: // the choice itself is told to be wrong
	case t.By == "kind":
		r.failAt(e.Node.Pos, fmt.Sprintf("a %s of kind %q has no %q", t.Name, choice, key),
			"it is for "+strings.Join(others, ", "))
	default:
		r.failAt(e.Node.Pos, fmt.Sprintf("%s = %q has no key %q", t.By, choice, key),
			"it is for "+strings.Join(others, ", "))
	}
}

func find(fields []field, key string) (field, bool) {
	for _, f := range fields {
		if f.key == key || slices.Contains(f.each, key) {
			return f, true
		}
	}
	return field{}, false
}

// table fills a struct from a table; name is what faults call it.
func (r *Reader) table(n *Node, into reflect.Value, where, name string) {
	if n.Kind != tomltree.Table {
		r.Expected(n, "a table")
		return
	}
	fields := fieldsOf(into.Type(), r.lists)
	for _, key := range n.Keys {
		e := n.Get(key)
		f, ok := find(fields, key)
		switch {
		case !ok:
			var known []string
			for _, f := range fields {
				known = append(append(known, f.each...), f.key)
			}
			r.UnknownKey(e.KeyPos, key, slices.DeleteFunc(known, func(k string) bool { return k == "*" }), name)
		case len(f.each) > 0:
			m := into.FieldByIndex(f.index)
			if m.IsNil() {
				m.Set(reflect.MakeMap(m.Type()))
			}
			item := reflect.New(m.Type().Elem()).Elem()
			r.value(e.Node, item, f, where+"."+key)
			m.SetMapIndex(reflect.ValueOf(key), item)
		default:
			r.value(e.Node, into.FieldByIndex(f.index), f, where+"."+key)
		}
	}
	r.missing(n, fields, where, name)
	r.defaults(into, n, where)
}

// missing reports keys that must be there.
func (r *Reader) missing(n *Node, fields []field, where, name string) {
	for _, f := range fields {
		switch {
		case f.need == "" || n.Get(f.key) != nil:
		case f.need == "yes":
			hint := ""
			if example := r.exampleOf(where, f.key); example != "" {
				hint = "such as " + example
			}
			r.failAt(n.Pos, fmt.Sprintf("%s needs the key %q", name, f.key), hint)
		default:
			r.failAt(n.Pos, fmt.Sprintf("%s needs %q: %s", name, f.key, f.need), "")
		}
	}
}

// defaults gives keys that are not there what their tags say.
func (r *Reader) defaults(into reflect.Value, n *Node, where string) {
	for _, f := range fieldsOf(into.Type(), r.lists) {
		if f.def == "" || (n != nil && n.Get(f.key) != nil) {
			continue
		}
		doc, err := tomltree.Parse([]byte("x = " + f.def))
		if err != nil {
			panic("config: the default of " + where + "." + f.key + ": " + err.Error())
		}
		// A default has no place of its own and no faults.
		aside := &Reader{Faults: &Faults{at: map[string]Pos{}}, lists: r.lists}
		aside.value(doc.Get("x").Node, into.FieldByIndex(f.index),
			field{key: f.key, typ: f.typ, choice: f.choice}, where+"."+f.key)
		r.platforms = append(r.platforms, aside.platforms...)
	}
}

// value reads a key's value.
func (r *Reader) value(n *Node, into reflect.Value, f field, where string) {
	r.Mark(where, n.Pos)
	if v, ok := into.Addr().Interface().(Value); ok {
		v.Read(r, n, where, f.choice)
		return
	}
	switch v := into.Addr().Interface().(type) {
	case *string:
		*v = r.Text(n)
		r.oneText(*v, f, where, f.key)
	case *bool:
		if n.Kind != tomltree.Bool {
			r.Expected(n, "true or false")
			return
		}
		*v = n.Text == "true"
	case *int:
		var number int
		if _, err := fmt.Sscan(n.Text, &number); n.Kind != tomltree.Number || err != nil || number < 0 {
			r.Expected(n, "a whole number, 0 or more")
			return
		}
		*v = number
	case *[]string:
		*v = r.Texts(n, where, "a list of texts")
		for i, s := range *v {
			r.oneText(s, f, fmt.Sprintf("%s.%d", where, i), strings.TrimSuffix(f.key, "s"))
		}
	case *map[string]string:
		if n.Kind != tomltree.Table {
			r.Expected(n, "a table of texts")
			return
		}
		*v = map[string]string{}
		for _, key := range n.Keys {
			at := where + "." + key
			r.Mark(at, n.Get(key).Node.Pos)
			(*v)[key] = r.Text(n.Get(key).Node)
			r.fills(at, (*v)[key], f.fill)
		}
	default:
		r.structs(n, into, where)
	}
}

func (r *Reader) oneText(s string, f field, where, what string) {
	r.Choice(where, strings.ReplaceAll(what, "-", " "), s, f.choice)
	r.fills(where, s, f.fill)
	if f.ref != "" && s != "" {
		r.refs = append(r.refs, pendingRef{where, f.ref, f.refName, s})
	}
}

// fills checks a text whose key says which placeholders there are.
func (r *Reader) fills(where, text string, names []string) {
	if len(names) > 0 {
		r.Placeholders(where, text, names)
	}
}

// structs reads what is described by a struct: one, or a list.
func (r *Reader) structs(n *Node, into reflect.Value, where string) {
	switch into.Kind() {
	case reflect.Struct:
		r.short(n, into, where)
	case reflect.Slice:
		words := wordsOf(into.Type().Elem(), where)
		if n.Kind != tomltree.Array {
			r.Expected(n, words.List)
			return
		}
		out := reflect.MakeSlice(into.Type(), len(n.Items), len(n.Items))
		for i, item := range n.Items {
			at := fmt.Sprintf("%s.%d", where, i)
			r.Mark(at, item.Pos)
			r.short(item, out.Index(i), at)
		}
		into.Set(out)
	default:
		panic("config: no way to read " + into.Type().String())
	}
}

// short reads a struct, or a plain text in the place of one of its keys.
func (r *Reader) short(n *Node, into reflect.Value, where string) {
	words := wordsOf(into.Type(), where)
	if n.Kind == tomltree.Table {
		r.table(n, into, where, words.Name)
		return
	}
	for _, f := range fieldsOf(into.Type(), r.lists) {
		if f.short && n.Kind == tomltree.String {
			r.value(n, into.FieldByIndex(f.index), f, where+"."+f.key)
			r.defaults(into, nil, where)
			return
		}
	}
	r.Expected(n, words.One)
}

func wordsOf(t reflect.Type, where string) Words {
	w := Words{Name: "[" + where + "]", One: "a table", List: "a list of tables"}
	if worded, ok := reflect.New(t).Interface().(Worded); ok {
		own := worded.Words()
		if own.Name != "" {
			w.Name = own.Name
		}
		if own.One != "" {
			w.One = own.One
		}
		if own.List != "" {
			w.List = own.List
		}
	}
	return w
}

// resolve looks up what can be known only when all tables were read.
func (r *Reader) resolve(d *Document) {
	sets := One[PlatformSets](d, platformsTable)
	for _, p := range r.platforms {
		r.resolvePlatforms(p.into, p.where, sets)
	}
	for _, ref := range r.refs {
		if known := d.Names(ref.table); !slices.Contains(known, ref.name) {
			r.UnknownName(ref.where, ref.what, ref.name, known)
		}
	}
}
