// Package config reads piedmont.toml. It knows positions, decoding, faults and
// the reference, and no table of its own but [platforms]: each table is described
// by the package that it belongs to, as a Table. Every fault of a file is
// reported at once, each with line, column, what was expected and, for a misspelt
// name, the nearest known one.
package config

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"piedmont/internal/base/fault"
	"piedmont/internal/format/tomltree"
)

// FileName is the description file at a project's root.
const FileName = "piedmont.toml"

// ErrMissing means that no description file was found.
var ErrMissing = fault.Misuse("there is no "+FileName+" here",
	"run \"piedmont start\" to write one, or name it with --config")

// Document is one piedmont.toml that was read. What its tables hold is asked for
// with One and Named.
type Document struct {
	File string // the path it was read from
	Dir  string // the project's root: the folder it is in

	sections map[string]*section
}

// section is what was read of one table.
type section struct {
	given bool
	one   any   // of a single table
	many  []any // of a named one, in the order of the file
	names []string
}

// One gives the keys of a single table, with their defaults when it is not there;
// nil for an optional table that is not.
func One[K any](d *Document, table string) *K {
	s := d.sections[table]
	if s == nil || s.one == nil {
		return nil
	}
	return s.one.(*K)
}

// Named gives the keys of each table [TABLE.NAME], in the order of the file.
func Named[K any](d *Document, table string) []*K {
	s := d.sections[table]
	if s == nil {
		return nil
	}
	out := make([]*K, len(s.many))
	for i, item := range s.many {
		out[i] = item.(*K)
	}
	return out
}

// Names are those of the tables [TABLE.NAME], in the order of the file.
func (d *Document) Names(table string) []string {
	if s := d.sections[table]; s != nil {
		return slices.Clone(s.names)
	}
	return nil
}

// Find looks for the description file in dir and the folders above it, and
// stops at the top of a git repository.
func Find(dir string) (string, error) {
	for {
		file := filepath.Join(dir, FileName)
		if _, err := os.Stat(file); err == nil {
			return file, nil
		}
		_, gitErr := os.Stat(filepath.Join(dir, ".git"))
		up := filepath.Dir(dir)
		if gitErr == nil || up == dir {
			return "", ErrMissing
		}
		dir = up
	}
}

// Load reads a file with these tables. The error is of type Errors when the file
// was read and is wrong.
func Load(file string, tables []Table) (*Document, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrMissing
	}
	if err != nil {
		return nil, fmt.Errorf("read the description file: %w", err)
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	return Parse(abs, data, tables)
}

// Parse reads the content of a file; see Load.
func Parse(file string, data []byte, tables []Table) (*Document, error) {
	d := &Document{File: file, Dir: filepath.Dir(file), sections: map[string]*section{}}
	f := &Faults{file: filepath.Base(file), at: map[string]Pos{}}
	root, err := tomltree.Parse(data)
	var bad *tomltree.Error
	if errors.As(err, &bad) {
		return nil, Errors{{File: f.file, Pos: bad.Pos, Message: bad.Message}}
	}
	if err != nil {
		return nil, err
	}
	r := &Reader{Faults: f}
	r.document(root, d, tables)
	r.resolve(d)
	for _, t := range tables {
		if t.Check != nil {
			t.Check(f, d)
		}
	}
	if f.stopped != nil {
		return nil, f.stopped
	}
	if len(f.list) == 0 {
		return d, nil
	}
	slices.SortStableFunc(f.list, func(a, b *Error) int {
		if a.Pos.Line != b.Pos.Line {
			return a.Pos.Line - b.Pos.Line
		}
		return a.Pos.Column - b.Pos.Column
	})
	return nil, f.list
}
