// Package tomltree reads TOML 1.0 into a tree that knows where everything
// stands, so that a fault can be told with its place and a value be changed in
// place. The library checks the document; its parser's tokens, which are of an
// interface that may change, are known here alone.
package tomltree

import (
	"bytes"
	"errors"
	"sort"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Pos is a place in a document, counted from 1; columns count bytes.
type Pos struct{ Line, Column int }

// Kind is what a value is.
type Kind int

// The kinds of values.
const (
	Table Kind = iota
	Array
	String
	Bool
	Number
	Time
)

// String names a kind for people.
func (k Kind) String() string {
	return [...]string{"a table", "a list", "a text", "true or false", "a number", "a date"}[k]
}

// Node is one value with its place.
type Node struct {
	Kind  Kind
	Pos   Pos
	Text  string  // of a String its content, of other plain values as written
	Items []*Node // of an Array
	Keys  []string
	// Start and End are the bytes of a plain value, with its quotes.
	Start, End int

	entries map[string]*Entry
}

// Entry is a key of a table with its value.
type Entry struct {
	KeyPos Pos
	Node   *Node
}

// Get gives a key's entry, nil when there is none.
func (n *Node) Get(key string) *Entry { return n.entries[key] }

// Error is a text that is not TOML.
type Error struct {
	Pos     Pos
	Message string
}

func (e *Error) Error() string { return e.Message }

// byteOrderMark may stand before a document in UTF-8.
const byteOrderMark = "\xef\xbb\xbf"

// Parse reads a document. An error is an *Error.
func Parse(data []byte) (*Node, error) {
	lines := indexOf(data)
	mark := 0
	if bytes.HasPrefix(data, []byte(byteOrderMark)) {
		mark = len(byteOrderMark)
	}
	body := data[mark:]
	if at := bytes.IndexByte(body, 0); at >= 0 {
		return nil, &Error{lines.pos(mark + at), "this is not a TOML file: it holds a zero byte"}
	}
	var whole map[string]any
	if err := toml.Unmarshal(body, &whole); err != nil {
		e := &Error{Pos{1, 1}, "not TOML: " + strings.TrimPrefix(err.Error(), "toml: ")}
		var bad *toml.DecodeError
		if errors.As(err, &bad) {
			e.Pos.Line, e.Pos.Column = bad.Position()
			e.Message = "not TOML: " + strings.TrimPrefix(bad.Error(), "toml: ")
		}
		return nil, e
	}
	b := builder{lines: lines, mark: mark}
	b.parser.Reset(body)
	root := newTable(Pos{1, 1})
	current := root
	for b.parser.NextExpression() {
		e := b.parser.Expression()
		switch e.Kind {
		case unstable.Table:
			current = b.walk(root, e.Key(), false)
		case unstable.ArrayTable:
			current = b.walk(root, e.Key(), true)
		case unstable.KeyValue:
			b.assign(current, e)
		}
	}
	if err := b.parser.Error(); err != nil {
		return nil, &Error{Pos{1, 1}, "not TOML: " + err.Error()}
	}
	return root, nil
}

// index has the offset of each line's beginning.
type index []int

func indexOf(data []byte) index {
	x := index{0}
	for i, c := range data {
		if c == '\n' {
			x = append(x, i+1)
		}
	}
	return x
}

func (x index) pos(offset int) Pos {
	line := sort.SearchInts(x, offset+1)
	return Pos{line, offset - x[line-1] + 1}
}

func newTable(pos Pos) *Node { return &Node{Kind: Table, Pos: pos, entries: map[string]*Entry{}} }

func (n *Node) set(key string, pos Pos, value *Node) {
	if n.entries[key] == nil {
		n.Keys = append(n.Keys, key)
	}
	n.entries[key] = &Entry{pos, value}
}

// child finds or makes the table under a key.
func (n *Node) child(key string, pos Pos) *Node {
	if e := n.entries[key]; e != nil {
		if e.Node.Kind == Array && len(e.Node.Items) > 0 {
			return e.Node.Items[len(e.Node.Items)-1]
		}
		return e.Node
	}
	t := newTable(pos)
	n.set(key, pos, t)
	return t
}

type builder struct {
	parser unstable.Parser
	lines  index
	mark   int // bytes before what the parser sees
}

func (b *builder) pos(n *unstable.Node) Pos { return b.lines.pos(b.mark + int(n.Raw.Offset)) }

// walk follows a table's header; the last part of an array's opens a new table.
func (b *builder) walk(n *Node, keys unstable.Iterator, array bool) *Node {
	for keys.Next() {
		k := keys.Node()
		name, pos := string(k.Data), b.pos(k)
		if !array || !keys.IsLast() {
			n = n.child(name, pos)
			continue
		}
		if n.entries[name] == nil {
			n.set(name, pos, &Node{Kind: Array, Pos: pos})
		}
		t := newTable(pos)
		list := n.entries[name].Node
		list.Items = append(list.Items, t)
		n = t
	}
	return n
}

func (b *builder) assign(n *Node, kv *unstable.Node) {
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
func (b *builder) value(v *unstable.Node, keyPos Pos) *Node {
	switch v.Kind {
	case unstable.Array:
		n := &Node{Kind: Array, Pos: keyPos}
		for it := v.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				n.Items = append(n.Items, b.value(it.Node(), keyPos))
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
	}
	kind := Time
	switch v.Kind {
	case unstable.String:
		kind = String
	case unstable.Bool:
		kind = Bool
	case unstable.Integer, unstable.Float:
		kind = Number
	}
	start := b.mark + int(v.Raw.Offset)
	return &Node{Kind: kind, Pos: b.lines.pos(start), Text: string(v.Data), Start: start, End: start +
		int(v.Raw.Length)}
}
