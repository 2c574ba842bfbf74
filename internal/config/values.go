package config

import (
	"fmt"
	"strings"

	"piedmont/internal/base/secret"
	"piedmont/internal/format/tomltree"
)

// Texts is one text or several.
type Texts []string

// Read reads them.
func (t *Texts) Read(r *Reader, n *Node, where string, choice []string) {
	t.ReadAs(r, n, where, strings.TrimSuffix(where[strings.LastIndexByte(where, '.')+1:], "s"), choice)
}

// ReadAs reads them, and calls one that there is none of what it is.
func (t *Texts) ReadAs(r *Reader, n *Node, where, what string, choice []string) {
	if n.Kind == tomltree.String {
		*t = Texts{n.Text}
		r.Mark(where+".0", n.Pos)
	} else {
		*t = r.Texts(n, where, "a text or a list of texts")
	}
	for i, s := range *t {
		r.Choice(fmt.Sprintf("%s.%d", where, i), what, s, choice)
	}
}

// Shape is a text or a list.
func (*Texts) Shape(choice []string) Shape {
	one := textSchema()
	if len(choice) > 0 {
		one = map[string]any{"enum": choice}
	}
	return Shape{"text or list of texts", anyOf(one, listSchema(one))}
}

// Commands is one command or several, each a program with its arguments.
type Commands [][]string

// Read reads them.
func (c *Commands) Read(r *Reader, n *Node, where string, _ []string) {
	const what = "a command as a list of texts, or a list of commands"
	if n.Kind != tomltree.Array {
		r.Expected(n, what+"; a shell must be named: [\"sh\", \"-c\", \"...\"]")
		return
	}
	if len(n.Items) > 0 && n.Items[0].Kind == tomltree.String {
		*c = Commands{r.Texts(n, where+".0", what)}
		return
	}
	for i, item := range n.Items {
		at := fmt.Sprintf("%s.%d", where, i)
		r.Mark(at, item.Pos)
		words := r.Texts(item, at, what)
		if len(words) == 0 && item.Kind == tomltree.Array {
			r.Fail(at, "a command cannot be empty", "")
		}
		*c = append(*c, words)
	}
}

// Shape is a list, or a list of lists.
func (*Commands) Shape([]string) Shape {
	return Shape{"list of texts, or list of such lists",
		anyOf(listSchema(textSchema()), listSchema(listSchema(textSchema())))}
}

// Secret says where a secret is, never what it is.
type Secret struct{ secret.Place }

// Read reads the place.
func (s *Secret) Read(r *Reader, n *Node, where string, _ []string) {
	text := r.Text(n)
	if n.Kind != tomltree.String {
		return
	}
	place, ok := secret.Parse(text)
	if !ok {
		// The text may be the secret itself, so it is not repeated.
		r.Fail(where, "a token is never written here: say where it is, as env:NAME, file:PATH or command:LINE", "")
		return
	}
	s.Place = place
}

// Shape is a text of a certain form.
func (*Secret) Shape([]string) Shape {
	return Shape{"text", map[string]any{"type": "string", "pattern": "^(" + strings.Join(secret.Forms, "|") + "):.+"}}
}

// Rule takes files of the project: a path or pattern, and where they go.
type Rule struct {
	From string `toml:"from" need:"the path or pattern to take" short:"yes"`
	To   string `toml:"to"`   // a folder when it ends in "/"; "" keeps the place
	Mode string `toml:"mode"` // octal, or "" for 0644 and 0755
}

// Words are those of faults.
func (*Rule) Words() Words {
	return Words{"a file rule", "a path, or a table with from and to", "a list of paths and tables"}
}

// Tree takes what a program installed into its stage.
type Tree struct {
	Program string `toml:"program" need:"whose stage it is taken from" short:"yes" ref:"program"`
	From    string `toml:"from"` // a folder, file or pattern in the stage; "" is all of it
	To      string `toml:"to"`   // a folder in the archive
}

// Words are those of faults.
func (*Tree) Words() Words {
	return Words{"a tree", "a program's name, or a table with program, from and to", "a list of programs and tables"}
}
