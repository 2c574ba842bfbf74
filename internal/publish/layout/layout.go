// Package layout keeps the releases of one project as plain files:
//
//	1.4.0/            a public release: its files, manifest.json, SHA256SUMS, release.json
//	.drafts/ID/       a draft: manifest.json, finished files, and .part-NAME for begun ones
//
// A file gets its name only when all of its bytes are there and match; a
// release appears by one rename. The release page and the folder destination
// both stand on it.
package layout

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/project/version"
	"piedmont/internal/release"
)

// RecordName is the file in which a release's state is kept.
const RecordName = "release.json"

const draftsDir = ".drafts"

// ErrUnknown means that there is no such release, draft or file.
var ErrUnknown = errors.New("not found")

// Record is the state of a public release.
type Record struct {
	State     string    `json:"state"` // "public"
	Published time.Time `json:"published"`
	Manifest  string    `json:"manifest_sha256"`
}

// Release is a public release.
type Release struct {
	Record
	Manifest *release.Manifest
	Notes    []byte // Markdown, nil when the release has none
}

// maxNotes bounds the notes that are shown, in bytes.
const maxNotes = 1 << 20

// notes reads the notes of a release in a folder.
func notes(dir string, m *release.Manifest) []byte {
	for _, f := range m.Files {
		if f.Kind != "notes" || f.Size > maxNotes {
			continue
		}
		if data, err := os.ReadFile(filepath.Join(dir, f.Name)); err == nil {
			return data
		}
	}
	return nil
}

// ConflictError means that another release of this version is public.
type ConflictError struct {
	Version     string
	Differences []string
}

func (e *ConflictError) Error() string {
	return fmt.Sprintf("%s is public already with other files: %s", e.Version, strings.Join(e.Differences, ", "))
}

// IncompleteError means that a draft cannot become public yet.
type IncompleteError struct{ Missing []string }

func (e *IncompleteError) Error() string {
	return "the draft is not complete: " + strings.Join(e.Missing, ", ") + " missing"
}

// Shelf is the folder of one project. It remembers the releases that it has
// read for as long as their records stay the same.
type Shelf struct {
	dir   string
	mu    sync.Mutex
	known map[string]known // by version
}

type known struct {
	release Release
	size    int64
	changed time.Time
}

// At gives the shelf in dir; the folder is made by the first draft.
func At(dir string) *Shelf { return &Shelf{dir: dir, known: map[string]known{}} }

// Dir is the shelf's folder.
func (s *Shelf) Dir() string { return s.dir }

// DraftID is the identity of a draft: the same manifest gives the same.
func DraftID(encoded []byte) string {
	sum := sha256.Sum256(encoded)
	return hex.EncodeToString(sum[:16])
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Release finds the public release of a version.
func (s *Shelf) Release(v string) (Release, error) {
	if release.CheckVersion(v) != nil {
		return Release{}, ErrUnknown
	}
	info, err := os.Stat(filepath.Join(s.dir, v, RecordName))
	if errors.Is(err, fs.ErrNotExist) {
		return Release{}, ErrUnknown
	}
	if err != nil {
		return Release{}, err
	}
	s.mu.Lock()
	k, ok := s.known[v]
	s.mu.Unlock()
	if ok && k.size == info.Size() && k.changed.Equal(info.ModTime()) {
		return k.release, nil
	}
	r, err := s.read(v)
	if err != nil {
		return r, err
	}
	s.mu.Lock()
	s.known[v] = known{r, info.Size(), info.ModTime()}
	s.mu.Unlock()
	return r, nil
}

func (s *Shelf) read(v string) (r Release, err error) {
	data, err := os.ReadFile(filepath.Join(s.dir, v, RecordName))
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal(data, &r.Record); err != nil {
		return r, fmt.Errorf("%s of %s is damaged: %w", RecordName, v, err)
	}
	encoded, err := os.ReadFile(filepath.Join(s.dir, v, release.Name))
	if err != nil {
		return r, err
	}
	if r.Manifest, err = release.Parse(encoded); err != nil {
		return r, err
	}
	r.Notes = notes(filepath.Join(s.dir, v), r.Manifest)
	return r, nil
}

// Releases are all public ones, the highest version first.
func (s *Shelf) Releases() ([]Release, error) {
	entries, err := os.ReadDir(s.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Release
	for _, e := range entries {
		if !e.IsDir() || release.CheckVersion(e.Name()) != nil {
			continue
		}
		r, err := s.Release(e.Name())
		if errors.Is(err, ErrUnknown) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("release %s: %w", e.Name(), err)
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Release) int { return version.Compare(b.Manifest.Version, a.Manifest.Version) })
	return out, nil
}

// Latest is the release that "latest" means: the highest version that is no
// pre-release, else the highest of all. The list is as Releases gives it.
func Latest(list []Release) (Release, bool) {
	for _, r := range list {
		if !version.IsPrerelease(r.Manifest.Version) {
			return r, true
		}
	}
	if len(list) == 0 {
		return Release{}, false
	}
	return list[0], true
}

// Path is where a file of a public release is; the name is checked against the manifest.
func (s *Shelf) Path(r Release, name string) (string, bool) {
	if name != release.Name && name != release.SumsName {
		if _, ok := r.Manifest.File(name); !ok {
			return "", false
		}
	}
	return filepath.Join(s.dir, r.Manifest.Version, name), true
}

// Begin opens the draft of a manifest, or finds it again. A draft whose
// manifest is public already has Public set and nothing left to do.
func (s *Shelf) Begin(encoded []byte) (*Draft, error) {
	m, err := release.Parse(encoded)
	if err != nil {
		return nil, err
	}
	d := &Draft{shelf: s, ID: DraftID(encoded), Manifest: m, encoded: encoded}
	if done, err := d.published(); err != nil || done {
		return d, err
	}
	if err := os.MkdirAll(d.dir(), 0o755); err != nil {
		return nil, fmt.Errorf("open a draft: %w", err)
	}
	path := filepath.Join(d.dir(), release.Name)
	if have, err := os.ReadFile(path); err == nil && string(have) == string(encoded) {
		return d, nil
	}
	return d, fileio.Write(path, encoded, 0o644)
}

// Draft finds a draft by its identity: an open one, or the public release that
// it has become, perhaps by another publisher's doing.
func (s *Shelf) Draft(id string) (*Draft, error) {
	if b, err := hex.DecodeString(id); err != nil || len(b) != 16 {
		return nil, ErrUnknown
	}
	encoded, err := os.ReadFile(filepath.Join(s.dir, draftsDir, id, release.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return s.became(id)
	}
	if err != nil {
		return nil, err
	}
	m, err := release.Parse(encoded)
	if err != nil {
		return nil, err
	}
	d := &Draft{shelf: s, ID: id, Manifest: m, encoded: encoded}
	_, err = d.published()
	return d, err
}

// became finds the public release that a draft has become.
func (s *Shelf) became(id string) (*Draft, error) {
	list, err := s.Releases()
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		if strings.HasPrefix(r.Record.Manifest, id) {
			encoded, err := os.ReadFile(filepath.Join(s.dir, r.Manifest.Version, release.Name))
			return &Draft{shelf: s, ID: id, Manifest: r.Manifest, Public: true, encoded: encoded}, err
		}
	}
	return nil, ErrUnknown
}

// Tidy removes drafts in which nothing was written since before.
func (s *Shelf) Tidy(before time.Time) error {
	drafts, err := os.ReadDir(filepath.Join(s.dir, draftsDir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, d := range drafts {
		dir := filepath.Join(s.dir, draftsDir, d.Name())
		var last time.Time
		err := filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := e.Info()
			if err == nil && info.ModTime().After(last) {
				last = info.ModTime()
			}
			return err
		})
		if err == nil && last.Before(before) {
			err = os.RemoveAll(dir)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
