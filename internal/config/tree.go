package config

import (
	"errors"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Pos is a place in the file, counted from 1; columns count bytes.
type Pos struct{ Line, Column int }

type kind int

const (
	kindTable kind = iota
	kindArray
	kindString
	kindBool
	kindNumber
	kindTime
)

func (k kind) String() string {
	return [...]string{"a table", "a list", "a text", "true or false", "a number", "a date"}[k]
}

// node is one value of the file with its place.
type node struct {
	kind  kind
	pos   Pos
	text  string // strings; the written form of the other plain values
	items []*node
	keys  []string // of a table, in the order of the file
	table map[string]*entry
}

type entry struct {
	keyPos Pos
	node   *node
}

func newTable(pos Pos) *node {
	return &node{kind: kindTable, pos: pos, table: map[string]*entry{}}
}

// child finds or makes the table under a key.
func (n *node) child(key string, pos Pos) *node {
	if e := n.table[key]; e != nil {
		if e.node.kind == kindArray && len(e.node.items) > 0 {
			return e.node.items[len(e.node.items)-1]
		}
		return e.node
	}
	t := newTable(pos)
	n.set(key, pos, t)
	return t
}

func (n *node) set(key string, pos Pos, value *node) {
	if n.table[key] == nil {
		n.keys = append(n.keys, key)
	}
	n.table[key] = &entry{pos, value}
}

// parse reads TOML into a tree that knows where everything stands. The library
// checks the document; its parser's tree gives the places.
func parse(data []byte) (*node, *Error) {
	if at := strings.IndexByte(string(data), 0); at >= 0 {
		return nil, &Error{Pos: posAt(data, at), Message: "this is not a TOML file: it holds a zero byte"}
	}
	var whole map[string]any
	if err := toml.Unmarshal(data, &whole); err != nil {
		var bad *toml.DecodeError
		if errors.As(err, &bad) {
			line, column := bad.Position()
			return nil, &Error{Pos: Pos{line, column}, Message: "not TOML: " + strings.TrimPrefix(bad.Error(), "toml: ")}
		}
		return nil, &Error{Pos: Pos{1, 1}, Message: "not TOML: " + strings.TrimPrefix(err.Error(), "toml: ")}
	}
	var p unstable.Parser
	p.Reset(data)
	b := treeBuilder{p: &p}
	root := newTable(Pos{1, 1})
	current := root
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table:
			current = b.walk(root, e.Key(), false)
		case unstable.ArrayTable:
			current = b.walk(root, e.Key(), true)
		case unstable.KeyValue:
			b.assign(current, e)
		}
	}
	if err := p.Error(); err != nil {
		return nil, &Error{Pos: Pos{1, 1}, Message: "not TOML: " + err.Error()}
	}
	return root, nil
}

type treeBuilder struct{ p *unstable.Parser }

func (b treeBuilder) pos(n *unstable.Node) Pos {
	s := b.p.Shape(n.Raw).Start
	return Pos{s.Line, s.Column}
}

// walk follows a table header; the last part of an array's header opens a new table.
func (b treeBuilder) walk(n *node, keys unstable.Iterator, array bool) *node {
	for keys.Next() {
		k := keys.Node()
		name, pos := string(k.Data), b.pos(k)
		if !array || !keys.IsLast() {
			n = n.child(name, pos)
			continue
		}
		e := n.table[name]
		if e == nil {
			n.set(name, pos, &node{kind: kindArray, pos: pos})
			e = n.table[name]
		}
		t := newTable(pos)
		e.node.items = append(e.node.items, t)
		n = t
	}
	return n
}

func (b treeBuilder) assign(n *node, kv *unstable.Node) {
	keys := kv.Key()
	for keys.Next() {
		k := keys.Node()
		name, pos := string(k.Data), b.pos(k)
		if keys.IsLast() {
			n.set(name, pos, b.value(kv.Value(), pos))
			return
		}
		n = n.child(name, pos)
	}
}

// value converts a value; lists have no place of their own, so they take their key's.
func (b treeBuilder) value(v *unstable.Node, keyPos Pos) *node {
	switch v.Kind {
	case unstable.Array:
		n := &node{kind: kindArray, pos: keyPos}
		for it := v.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				n.items = append(n.items, b.value(it.Node(), keyPos))
			}
		}
		return n
	case unstable.InlineTable:
		n := newTable(b.pos(v))
		for it := v.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				b.assign(n, it.Node())
			}
		}
		return n
	case unstable.String:
		return &node{kind: kindString, pos: b.pos(v), text: string(v.Data)}
	case unstable.Bool:
		return &node{kind: kindBool, pos: b.pos(v), text: string(v.Data)}
	case unstable.Integer, unstable.Float:
		return &node{kind: kindNumber, pos: b.pos(v), text: string(v.Data)}
	}
	return &node{kind: kindTime, pos: b.pos(v), text: string(v.Data)}
}

func posAt(data []byte, offset int) Pos {
	before := string(data[:offset])
	return Pos{strings.Count(before, "\n") + 1, offset - strings.LastIndexByte(before, '\n')}
}

func (n *node) bool() (bool, error) { return strconv.ParseBool(n.text) }
