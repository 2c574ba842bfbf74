package linuxpkg

import (
	"bufio"
	"io"
	"strings"

	"piedmont/internal/format/archive"
)

// Contents are what a reader found in a package, of ours or of anybody.
type Contents struct {
	Format  string          `json:"format"`
	Name    string          `json:"name"`
	Version string          `json:"version"`
	Fields  []Field         `json:"fields"` // in the format's own words and order
	Scripts []Script        `json:"scripts"`
	Files   []archive.Entry `json:"files"`
}

// Field is one piece of metadata; a name may come more than once.
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Script is one that runs at some moment.
type Script struct {
	When string `json:"when"`
	Text string `json:"text"`
}

// MaxMember bounds a control file or script that is read, in bytes.
const MaxMember = 16 << 20

// ReadMember reads a small member of a package.
func ReadMember(r io.Reader) (string, error) {
	data, err := io.ReadAll(io.LimitReader(r, MaxMember))
	return string(data), err
}

// PkgInfo reads the lines "name = value" of .PKGINFO files.
func PkgInfo(text string) []Field {
	var out []Field
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, MaxMember)
	for lines.Scan() {
		line := lines.Text()
		if name, value, ok := strings.Cut(line, " = "); ok && !strings.HasPrefix(line, "#") {
			out = append(out, Field{strings.TrimSpace(name), value})
		}
	}
	return out
}

// Value gives a field's first value, "" when there is none.
func (s *Contents) Value(name string) string {
	for _, f := range s.Fields {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

// Look gives a file's content to whoever wants to see it; folders, links and
// nobody are passed over.
func Look(look func(archive.Entry, io.Reader) error, e archive.Entry, r io.Reader) error {
	if look == nil || !e.Mode.IsRegular() {
		return nil
	}
	return look(e, r)
}
