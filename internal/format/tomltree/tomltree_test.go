package tomltree_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"piedmont/internal/format/tomltree"
)

func ExampleParse() {
	doc, err := tomltree.Parse([]byte("[hut]\nname = 'Karrenjoch'\nbells = [1, 2]\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	name := doc.Get("hut").Node.Get("name").Node
	fmt.Println(name.Kind, name.Text, name.Pos)
	// Output: a text Karrenjoch {2 8}
}

func TestPlaces(t *testing.T) {
	text := "a.b = 1\n[c]\nd = { e = \"x\", f = [true,\n  2026-05-02] }\n[[g]]\nh = '''y'''\n[[g]]\n[g.i]\nj = 1.5\n"
	for _, before := range []string{"", "\xef\xbb\xbf"} {
		root, err := tomltree.Parse([]byte(before + text))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		var walk func(n *tomltree.Node, at string)
		walk = func(n *tomltree.Node, at string) {
			switch n.Kind {
			case tomltree.Table:
				for _, key := range n.Keys {
					walk(n.Get(key).Node, at+"."+key)
				}
			case tomltree.Array:
				for i, item := range n.Items {
					walk(item, fmt.Sprintf("%s.%d", at, i))
				}
			default:
				got = append(got, fmt.Sprintf("%s %s %d:%d %s", at, n.Kind, n.Pos.Line, n.Pos.Column,
					(before + text)[n.Start:n.End]))
			}
		}
		walk(root, "")
		want := `.a.b a number 1:7 1
.c.d.e a text 3:11 "x"
.c.d.f.0 true or false 3:21 true
.c.d.f.1 a date 4:3 2026-05-02
.g.0.h a text 6:5 '''y'''
.g.1.i.j a number 9:5 1.5`
		if before != "" {
			want = strings.Replace(want, "1:7", "1:10", 1)
		}
		if strings.Join(got, "\n") != want {
			t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
		}
	}
}

func TestFaults(t *testing.T) {
	for text, want := range map[string]tomltree.Pos{
		"[a\nb = 1": {1, 3}, "a = 1\nb = \x00": {2, 5}, "a = 1\na = 2\n": {2, 1}, "name: chime\n": {1, 5},
	} {
		_, err := tomltree.Parse([]byte(text))
		var bad *tomltree.Error
		if !errors.As(err, &bad) || bad.Pos != want {
			t.Errorf("%q: %+v, want %v", text, err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("[a.b]\nc.d = [1, {x = 2}]\n[[e]]\n[[e]]\nf = 1979-05-27\n")
	f.Add("a = \"\\u00e9\"\n")
	f.Fuzz(func(t *testing.T, text string) {
		root, err := tomltree.Parse([]byte(text))
		if (root == nil) == (err == nil) {
			t.Errorf("%v with %v", root, err)
		}
		var bad *tomltree.Error
		if errors.As(err, &bad) && (bad.Pos.Line < 1 || bad.Pos.Column < 1) {
			t.Errorf("no place: %+v", bad)
		}
	})
}
