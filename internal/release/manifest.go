// Package release is the record of a release: manifest.json and SHA256SUMS.
// What it reads may come from anywhere, so it is checked before it is believed.
package release

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
)

// The two files that every release has besides those that it lists.
const (
	Name     = "manifest.json"
	SumsName = "SHA256SUMS"
	// TrialsName is beside them in an outbox and is not published.
	TrialsName = "trials.json"
	Format     = "piedmont-manifest/1"
)

// MaxSize bounds the manifest that is read from outside, in bytes.
const MaxSize = 16 << 20

// Manifest is the whole record. Nothing in it depends on when or where it was made.
type Manifest struct {
	Format  string     `json:"format"`
	Project Project    `json:"project"`
	Version string     `json:"version"`
	Preview bool       `json:"preview"`
	Tag     string     `json:"tag,omitempty"`
	Commit  Commit     `json:"commit"`
	Files   []Artifact `json:"files"`
}

// Project says what is released.
type Project struct {
	Name       string `json:"name"`
	Summary    string `json:"summary,omitempty"`
	Homepage   string `json:"homepage,omitempty"`
	Repository string `json:"repository,omitempty"`
	License    string `json:"license,omitempty"`
	Maintainer string `json:"maintainer,omitempty"`
}

// Commit is what the release was made from.
type Commit struct {
	ID   string    `json:"id"`
	Time time.Time `json:"time"`
}

// Encode writes the manifest: two spaces, a newline at the end, files sorted by name.
func (m *Manifest) Encode() ([]byte, error) {
	slices.SortFunc(m.Files, func(a, b Artifact) int { return strings.Compare(a.Name, b.Name) })
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(m); err != nil {
		return nil, fmt.Errorf("write the manifest: %w", err)
	}
	return buf.Bytes(), nil
}

// Read reads at most MaxSize bytes and checks what they say.
func Read(r io.Reader) (*Manifest, []byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, MaxSize+1))
	if err != nil {
		return nil, nil, fmt.Errorf("read the manifest: %w", err)
	}
	if len(data) > MaxSize {
		return nil, nil, fmt.Errorf("the manifest is larger than %d MiB", MaxSize>>20)
	}
	m, err := Parse(data)
	return m, data, err
}

// Parse reads a manifest and checks it; see Check.
func Parse(data []byte) (*Manifest, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	var m Manifest
	if err := dec.Decode(&m); err != nil {
		return nil, fmt.Errorf("this is not a release manifest: %w", err)
	}
	if _, err := dec.Token(); err != io.EOF {
		return nil, fmt.Errorf("this is not a release manifest: something follows its end")
	}
	if err := m.Check(); err != nil {
		return nil, err
	}
	return &m, nil
}

// File finds a file by name.
func (m *Manifest) File(name string) (Artifact, bool) {
	for _, f := range m.Files {
		if f.Name == name {
			return f, true
		}
	}
	return Artifact{}, false
}

// Difference names the files in which two manifests differ, each with how.
func Difference(have, want *Manifest) []string {
	var out []string
	for _, f := range want.Files {
		old, ok := have.File(f.Name)
		switch {
		case !ok:
			out = append(out, f.Name+" is new")
		case old.SHA256 != f.SHA256 || old.SHA512 != f.SHA512 || old.Size != f.Size:
			out = append(out, f.Name+" differs")
		}
	}
	for _, f := range have.Files {
		if _, ok := want.File(f.Name); !ok {
			out = append(out, f.Name+" is gone")
		}
	}
	if len(out) == 0 {
		out = append(out, Name+" differs")
	}
	return out
}

// Digest is the SHA-256 of an encoded manifest, in hex: the identity of a release.
func Digest(encoded []byte) string {
	sum := sha256.Sum256(encoded)
	return hex.EncodeToString(sum[:])
}

// The two folders in a project that Piedmont writes.
const (
	OutboxDir = "outbox"    // what is ready to be sent, a folder for each version
	WorkDir   = ".piedmont" // work between runs
)
