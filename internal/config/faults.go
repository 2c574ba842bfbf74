package config

import (
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/near"
	"piedmont/internal/base/placeholder"
	"piedmont/internal/format/tomltree"
)

// Pos is a place in the file, counted from 1; columns count bytes.
type Pos = tomltree.Pos

// Error is one fault of a file.
type Error struct {
	File    string
	Pos     Pos
	Message string
	Hint    string // what to write instead, or ""
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", e.File, e.Pos.Line, e.Pos.Column, e.Message)
	if e.Hint != "" {
		s += "; " + e.Hint
	}
	return s
}

// Errors are all faults of a file, in the order of the file.
type Errors []*Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, one := range e {
		lines[i] = one.Error()
	}
	return strings.Join(lines, "\n")
}

// ExitStatus is that of a wrong configuration.
func (Errors) ExitStatus() fault.Status { return fault.Usage }

// Faults collects what is wrong with a file. Places are named by the way to them,
// such as bundle.cli.files.0.from.
type Faults struct {
	file    string
	list    Errors
	at      map[string]Pos
	stopped error
}

// Given says whether the file has something at a place.
func (f *Faults) Given(where string) bool {
	_, ok := f.at[where]
	return ok
}

// Fail reports a fault at a place; where the file has nothing there, at what
// holds it.
func (f *Faults) Fail(where, message, hint string) { f.failAt(f.pos(where), message, hint) }

func (f *Faults) failAt(pos Pos, message, hint string) {
	f.list = append(f.list, &Error{File: f.file, Pos: pos, Message: message, Hint: hint})
}

func (f *Faults) pos(where string) Pos {
	for {
		if pos, ok := f.at[where]; ok {
			return pos
		}
		i := strings.LastIndexByte(where, '.')
		if i < 0 {
			return Pos{Line: 1, Column: 1}
		}
		where = where[:i]
	}
}

// Stop gives up: something could not be found out that the file is held against.
func (f *Faults) Stop(err error) {
	if f.stopped == nil {
		f.stopped = err
	}
}

// UnknownName reports a reference to something that does not exist.
func (f *Faults) UnknownName(where, what, name string, known []string) {
	hint := near.Question(name, known)
	switch {
	case hint != "":
	case len(known) == 0:
		hint = "none is defined"
	case len(known) <= 12:
		hint = "there are " + strings.Join(known, ", ")
	}
	f.Fail(where, fmt.Sprintf("unknown %s %q", what, name), hint)
}

// Choice reports a value that is none of those that are known.
func (f *Faults) Choice(where, what, value string, known []string) {
	if value != "" && len(known) > 0 && !slices.Contains(known, value) {
		f.UnknownName(where, what, value, known)
	}
}

// UnknownKey reports a key that there is none of.
func (f *Faults) UnknownKey(pos Pos, key string, known []string, table string) {
	hint := near.Question(key, known)
	if hint == "" {
		hint = "here there are " + strings.Join(known, ", ")
	}
	f.failAt(pos, fmt.Sprintf("unknown key %q in %s", key, table), hint)
}

// Inside reports a path that is not below the project's root.
func (f *Faults) Inside(where, p string) {
	if p == "" {
		return
	}
	clean := path.Clean(filepath.ToSlash(p))
	if path.IsAbs(clean) || filepath.IsAbs(p) || clean == ".." || strings.HasPrefix(clean, "../") {
		f.Fail(where, fmt.Sprintf("%q leaves the project", p), "write a path relative to the folder of "+FileName)
	}
}

// Placeholders reports placeholders of a text that there are none of.
func (f *Faults) Placeholders(where, text string, names []string) {
	err := placeholder.Check(text, names)
	if err == nil {
		return
	}
	pos := f.pos(where)
	if bad, ok := err.(*placeholder.Error); ok {
		pos.Column += 1 + bad.Offset // after the opening quote
	}
	f.failAt(pos, err.Error(), "")
}

// Address reports what is no http or https address, or carries more than one.
func (f *Faults) Address(where, s string) {
	if err := CheckAddress(s); err != nil {
		f.Fail(where, err.Error(), "")
	}
}

// CheckAddress says why something is no plain http or https address.
func CheckAddress(s string) error {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return fmt.Errorf("%q is not an http or https address", s)
	}
	if u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return fmt.Errorf("an address here has no user, password, query or fragment: name the token's place " +
			"with \"token\"")
	}
	return nil
}
