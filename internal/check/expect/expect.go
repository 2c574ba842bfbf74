// Package expect is what a project declares of its executables, and whether an
// examined file keeps it.
package expect

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"piedmont/internal/config"
	"piedmont/internal/format/exe"
	"piedmont/internal/format/tomltree"
)

// Expect is what must be true of an executable; zero values ask for nothing.
type Expect struct {
	Linkage         string   `toml:"linkage" choice:"static dynamic" json:"linkage,omitempty"`
	LibcAtMost      Glibc    `toml:"libc-at-most" json:"libc_at_most,omitempty"`
	Largest         Size     `toml:"largest" json:"largest,omitempty"` // bytes
	Stripped        bool     `toml:"stripped" json:"stripped,omitempty"`
	NoPaths         bool     `toml:"no-paths" json:"no_paths,omitempty"`
	ContainsVersion bool     `toml:"contains-version" json:"contains_version,omitempty"`
	NeedsOnly       []string `toml:"needs-only" json:"needs_only,omitempty"`
	Loader          string   `toml:"loader" json:"loader,omitempty"` // that may be an unusual one
}

// Words are those of faults.
func (*Expect) Words() config.Words {
	return config.Words{Name: "expect", One: "a table such as { linkage = \"static\" }"}
}

// WantsBinary says whether it asks for what only an executable has.
func (e Expect) WantsBinary() bool {
	return e.Linkage != "" || e.LibcAtMost != "" || e.Stripped || e.NeedsOnly != nil
}

// Glibc is a version of glibc.
type Glibc string

// Read reads one such as "2.28".
func (g *Glibc) Read(r *config.Reader, n *config.Node, where string, _ []string) {
	text := r.Text(n)
	if n.Kind == tomltree.String && !exe.IsNumber(text) {
		r.Fail(where, fmt.Sprintf("%q is not a version of glibc", text), "write it as in \"2.28\"")
	}
	*g = Glibc(text)
}

// Shape is a text.
func (*Glibc) Shape([]string) config.Shape {
	return config.Shape{Written: "text", Schema: config.TextSchema()}
}

// Size is a number of bytes.
type Size int64

// Read reads one such as "12 MiB".
func (s *Size) Read(r *config.Reader, n *config.Node, where string, _ []string) {
	text := r.Text(n)
	size, err := humanize.ParseBytes(text)
	if n.Kind == tomltree.String && (err != nil || size == 0 || size > 1<<50) {
		r.Fail(where, fmt.Sprintf("%q is not a size", text), "write it as in \"12 MiB\"")
	}
	*s = Size(size)
}

// Shape is a text.
func (*Size) Shape([]string) config.Shape {
	return config.Shape{Written: "text", Schema: config.TextSchema()}
}
