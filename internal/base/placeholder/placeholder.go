// Package placeholder fills {name} in a text: RFC 6570 expressions of level 1
// in form, with values put in as they are, since they end in file names and
// linker flags and not in URLs.
package placeholder

import (
	"fmt"
	"slices"
	"strings"
)

// Values maps a placeholder's name to what it stands for.
type Values map[string]string

// Error says what is wrong with a text and at which byte of it.
type Error struct {
	Offset  int
	Message string
}

func (e *Error) Error() string { return e.Message }

// Names are those that may stand in a kind of text.
func (v Values) Names() []string {
	var names []string
	for name := range v {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Check reports the first fault of a text in which only the given names may stand.
func Check(text string, names []string) error {
	_, err := walk(text, func(name string) (string, bool) {
		return "", slices.Contains(names, name)
	}, names)
	return err
}

// Fill replaces every placeholder by its value.
func Fill(text string, values Values) (string, error) {
	return walk(text, func(name string) (string, bool) {
		v, ok := values[name]
		return v, ok
	}, values.Names())
}

func walk(text string, value func(string) (string, bool), names []string) (string, error) {
	var out strings.Builder
	for i := 0; i < len(text); {
		c := text[i]
		if c == '}' {
			return "", &Error{i, "\"}\" without a \"{\" before it"}
		}
		if c != '{' {
			out.WriteByte(c)
			i++
			continue
		}
		end := strings.IndexByte(text[i:], '}')
		if end < 0 {
			return "", &Error{i, "\"{\" is never closed"}
		}
		name := text[i+1 : i+end]
		v, ok := value(name)
		if !ok {
			return "", &Error{i, fmt.Sprintf("unknown placeholder {%s}: here there are %s", name, list(names))}
		}
		out.WriteString(v)
		i += end + 1
	}
	return out.String(), nil
}

func list(names []string) string {
	written := make([]string, len(names))
	for i, name := range names {
		written[i] = "{" + name + "}"
	}
	return strings.Join(written, " ")
}
