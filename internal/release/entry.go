package release

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
)

// Entry is what an archive or a package holds under one path. The plan says where
// it comes from; making finds its content; the writers write it; the manifest
// records it.
type Entry struct {
	archive.Entry
	Keep   bool   // of packages: an upgrade does not overwrite what was changed
	Mark   string // of packages: MarkDoc, MarkLicense or ""
	Binary *exe.Info
	From   Origin
}

// Marks of files that some package formats have.
const (
	MarkDoc     = "doc"
	MarkLicense = "license"
)

// Origin is where an entry's content comes from. It is one of: an output of a
// build, all that a build has in its stage below Path (Tree), a file of the
// project, or a text that is written here. Folders and links have none.
type Origin struct {
	Build string // the build's id
	Path  string // its output, or the folder, file or pattern in its stage; else a file of the project
	Tree  bool
	Text  string
	Gzip  bool // the text is compressed
}

// Planned says whether there is content to find.
func (e *Entry) Planned() bool { return !e.Mode.IsDir() && !e.IsLink() }

// recorded is an entry in a manifest.
type recorded struct {
	Path   string    `json:"path"`
	Mode   string    `json:"mode"`
	Size   int64     `json:"size"`
	SHA256 string    `json:"sha256,omitempty"`
	Link   string    `json:"link,omitempty"`
	Owner  string    `json:"owner,omitempty"` // user:group, of packages
	Binary *exe.Info `json:"binary,omitempty"`
}

// MarshalJSON writes an entry as a manifest records it.
func (e Entry) MarshalJSON() ([]byte, error) {
	r := recorded{Path: e.Path, Mode: archive.Octal(e.Mode), Size: e.Size, SHA256: e.SHA256, Link: e.Link,
		Binary: e.Binary}
	if e.Owner+e.Group != "" {
		r.Owner = e.Owner + ":" + e.Group
	}
	return plainJSON(r)
}

// UnmarshalJSON reads an entry of a manifest.
func (e *Entry) UnmarshalJSON(data []byte) error {
	var r recorded
	if err := json.Unmarshal(data, &r); err != nil {
		return err
	}
	bits, err := strconv.ParseUint(r.Mode, 8, 12)
	if err != nil {
		return fmt.Errorf("%q is not a mode", r.Mode)
	}
	*e = Entry{Binary: r.Binary}
	e.Path, e.Mode, e.Size, e.SHA256, e.Link = r.Path, archive.FileMode(uint32(bits)), r.Size, r.SHA256, r.Link
	e.Owner, e.Group, _ = strings.Cut(r.Owner, ":")
	switch {
	case r.Link != "":
		e.Mode |= fs.ModeSymlink
	case strings.HasSuffix(r.Path, "/"):
		e.Mode |= fs.ModeDir
	}
	return nil
}

// plainJSON encodes without the escapes that HTML would need: the encoder around
// it asks for none, and takes what it is given.
func plainJSON(v any) ([]byte, error) {
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(buf.Bytes(), []byte("\n")), nil
}
