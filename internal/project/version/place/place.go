// Package place finds the version in the files that carry it, and changes it
// there without touching any other byte. A place is written PATH or
// PATH:SELECTOR:
//
//	VERSION                            the whole file, without white space around it
//	Cargo.toml:package.version         a key of a TOML or JSON file
//	app.xml:/Project/Version           an element of an XML file, by its path
//	docs/install.md:/release ([0-9.]+)/  a pattern with one group, in any text file
package place

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"piedmont/internal/format/tomltree"
)

// Place is where a version stands.
type Place struct {
	File     string // relative to the project's root, with forward slashes
	Selector string // as written, "" for the whole file
	kind     kind
	pattern  *regexp.Regexp
	keys     []string
}

type kind int

const (
	whole kind = iota
	tomlKey
	jsonKey
	xmlPath
	pattern
)

// Parse reads the written form.
func Parse(s string) (Place, error) {
	file, selector, has := strings.Cut(s, ":")
	p := Place{File: path.Clean(file), Selector: selector}
	if file == "" || path.IsAbs(file) || p.File == ".." || strings.HasPrefix(p.File, "../") {
		return p, fmt.Errorf("%q names no file of the project", s)
	}
	if !has {
		return p, nil
	}
	ending := path.Ext(p.File)
	switch {
	case len(selector) > 2 && strings.HasPrefix(selector, "/") && strings.HasSuffix(selector, "/"):
		re, err := regexp.Compile(selector[1 : len(selector)-1])
		if err != nil {
			return p, fmt.Errorf("%s is not a pattern: %w", selector, err)
		}
		if re.NumSubexp() != 1 {
			return p, fmt.Errorf("the pattern %s needs one group in parentheses, around the version; it has %d",
				selector, re.NumSubexp())
		}
		p.kind, p.pattern = pattern, re
	case ending == ".xml" && strings.HasPrefix(selector, "/"):
		p.kind, p.keys = xmlPath, strings.Split(selector[1:], "/")
	case ending == ".toml":
		p.kind, p.keys = tomlKey, strings.Split(selector, ".")
	case ending == ".json":
		p.kind, p.keys = jsonKey, strings.Split(selector, ".")
	default:
		return p, fmt.Errorf("what follows the colon in %q must be a pattern between slashes; keys are for "+
			".toml and .json files, paths that begin with a slash for .xml files", s)
	}
	for _, k := range p.keys {
		if k == "" {
			return p, fmt.Errorf("%q has an empty part in its selector", s)
		}
	}
	return p, nil
}

// String is the written form.
func (p Place) String() string {
	if p.Selector == "" {
		return p.File
	}
	return p.File + ":" + p.Selector
}

// Find gives the version in a file's content and the bytes that it takes.
func (p Place) Find(data []byte) (value string, start, end int, err error) {
	switch p.kind {
	case tomlKey:
		start, end, err = p.inTOML(data)
	case jsonKey:
		start, end, err = p.inJSON(data)
	case xmlPath:
		start, end, err = p.inXML(data)
	case pattern:
		start, end, err = p.inText(data)
	default:
		start, end = trimmed(data, 0, len(data))
		if start == end {
			err = errors.New("it is empty")
		}
	}
	if err != nil {
		return "", 0, 0, fmt.Errorf("%s: %w", p, err)
	}
	return string(data[start:end]), start, end, nil
}

// Read gives the version that stands there in the project in dir.
func (p Place) Read(dir string) (string, error) {
	data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(p.File)))
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%s: there is no such file", p)
	}
	if err != nil {
		return "", fmt.Errorf("%s: %w", p, err)
	}
	value, _, _, err := p.Find(data)
	return value, err
}

// Replace gives the content with another version in it; every other byte stays.
func (p Place) Replace(data []byte, version string) ([]byte, error) {
	_, start, end, err := p.Find(data)
	if err != nil {
		return nil, err
	}
	out := append([]byte(nil), data[:start]...)
	out = append(out, version...)
	out = append(out, data[end:]...)
	if got, _, _, err := p.Find(out); err != nil || got != version {
		return nil, fmt.Errorf("%s: the version %s cannot stand there", p, version)
	}
	return out, nil
}

// trimmed narrows a range by the white space at its ends.
func trimmed(data []byte, start, end int) (int, int) {
	for start < end && strings.IndexByte(" \t\r\n", data[start]) >= 0 {
		start++
	}
	for end > start && strings.IndexByte(" \t\r\n", data[end-1]) >= 0 {
		end--
	}
	return start, end
}

func (p Place) inText(data []byte) (int, int, error) {
	found := p.pattern.FindAllSubmatchIndex(data, 3)
	switch {
	case len(found) == 0:
		return 0, 0, errors.New("the pattern matches nothing in the file")
	case len(found) > 1:
		first := bytes.Count(data[:found[0][0]], []byte("\n")) + 1
		second := bytes.Count(data[:found[1][0]], []byte("\n")) + 1
		return 0, 0, fmt.Errorf("the pattern matches more than once, in the lines %d and %d; make it say more",
			first, second)
	case found[0][2] < 0:
		return 0, 0, errors.New("the pattern matches without its group")
	}
	return found[0][2], found[0][3], nil
}

func (p Place) inTOML(data []byte) (int, int, error) {
	n, err := tomltree.Parse(data)
	if err != nil {
		return 0, 0, fmt.Errorf("this is not TOML: %s", strings.TrimPrefix(err.Error(), "not TOML: "))
	}
	for _, key := range p.keys {
		var e *tomltree.Entry
		if n.Kind == tomltree.Table { // no key reaches into a list
			e = n.Get(key)
		}
		if e == nil {
			return 0, 0, errors.New("there is no such key")
		}
		n = e.Node
	}
	if n.Kind != tomltree.String {
		return 0, 0, errors.New("its value is no text")
	}
	// The range inside of the quotes, whichever they are.
	quote := 1
	raw := data[n.Start:n.End]
	if len(raw) >= 6 && (bytes.HasPrefix(raw, []byte(`"""`)) || bytes.HasPrefix(raw, []byte("'''"))) {
		quote = 3
	}
	return n.Start + quote, n.End - quote, nil
}

func (p Place) inJSON(data []byte) (int, int, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	start, end, ok, err := jsonValue(dec, data, p.keys)
	if err != nil {
		return 0, 0, err
	}
	if !ok {
		return 0, 0, errors.New("there is no such key")
	}
	return start, end, nil
}

// jsonValue reads one value and finds the wanted key in it; with no key left
// the value itself is wanted.
func jsonValue(dec *json.Decoder, data []byte, want []string) (start, end int, ok bool, err error) {
	bad := func(err error) (int, int, bool, error) { return 0, 0, false, fmt.Errorf("this is not JSON: %w", err) }
	t, err := dec.Token()
	if err != nil {
		return bad(err)
	}
	if s, isText := t.(string); isText && want != nil && len(want) == 0 {
		end = int(dec.InputOffset())
		start = bytes.LastIndexByte(data[:end-1], '"') + 1
		if string(data[start:end-1]) != s {
			return 0, 0, false, errors.New("its value has escapes")
		}
		return start, end - 1, true, nil
	}
	if want != nil && len(want) == 0 {
		return 0, 0, false, errors.New("its value is no text")
	}
	switch t {
	case json.Delim('{'):
		for dec.More() {
			key, err := dec.Token()
			if err != nil {
				return bad(err)
			}
			var below []string
			if len(want) > 0 && key == want[0] {
				below = want[1:]
			}
			if start, end, ok, err = jsonValue(dec, data, below); ok || err != nil {
				return start, end, ok, err
			}
		}
	case json.Delim('['):
		for dec.More() {
			if _, _, _, err := jsonValue(dec, data, nil); err != nil {
				return 0, 0, false, err
			}
		}
	default:
		return 0, 0, false, nil
	}
	if _, err := dec.Token(); err != nil {
		return bad(err)
	}
	return 0, 0, false, nil
}

func (p Place) inXML(data []byte) (int, int, error) {
	dec := xml.NewDecoder(bytes.NewReader(data))
	dec.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	var open []string
	start, end, found := 0, 0, 0
	for {
		before := int(dec.InputOffset())
		t, err := dec.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return 0, 0, fmt.Errorf("this is not XML: %w", err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			open = append(open, t.Name.Local)
			if slices.Equal(open, p.keys) {
				found++
				start, end = int(dec.InputOffset()), -1
			}
		case xml.EndElement:
			if slices.Equal(open, p.keys) && end < 0 {
				end = before
			}
			open = open[:len(open)-1]
		}
	}
	switch {
	case found == 0:
		return 0, 0, errors.New("there is no such element")
	case found > 1:
		return 0, 0, fmt.Errorf("there are %d such elements", found)
	}
	start, end = trimmed(data, start, end)
	if start >= end || bytes.ContainsAny(data[start:end], "<&") {
		return 0, 0, errors.New("the element holds no plain text")
	}
	return start, end, nil
}
