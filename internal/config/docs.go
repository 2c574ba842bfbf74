package config

import "strings"

// docs is what the Markdown beside a table's struct says.
type docs struct {
	text string
	keys []keyText
}

type keyText struct{ name, text, example string }

func (d docs) key(name string) *keyText {
	for i := range d.keys {
		if d.keys[i].name == name {
			return &d.keys[i]
		}
	}
	return nil
}

// parseDocs reads texts of the form
//
//	What the table is.
//
//	# key
//
//	What the key is.
//
//	    key = "example"
func parseDocs(texts []string) docs {
	var out docs
	for _, text := range texts {
		about, rest, _ := strings.Cut("\n"+text, "\n# ")
		if about = paragraph(about); about != "" {
			out.text = about
		}
		for _, part := range strings.Split(rest, "\n# ") {
			name, body, ok := strings.Cut(part, "\n")
			if !ok {
				continue
			}
			k := keyText{name: strings.TrimSpace(name)}
			var lines []string
			for _, line := range strings.Split(body, "\n") {
				if example, ok := strings.CutPrefix(line, "    "); ok {
					k.example = example
					continue
				}
				lines = append(lines, line)
			}
			k.text = paragraph(strings.Join(lines, "\n"))
			out.keys = append(out.keys, k)
		}
	}
	return out
}

// paragraph joins the lines of a text into one.
func paragraph(s string) string { return strings.Join(strings.Fields(s), " ") }
