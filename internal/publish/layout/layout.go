// Package layout keeps the releases of one project as plain files on any store:
//
//	1.4.0/            a public release: its files, manifest.json, SHA256SUMS, release.json
//	.drafts/ID/       a draft: manifest.json, finished files, and .part-NAME for begun ones
//
// Where the store can rename, a draft has a folder of its own: a file gets its name
// there only when all of its bytes are there and match, and the release appears by
// one rename. Where it cannot, files go to their places at once; nothing names them
// before release.json is there, which is written last. The release page and the
// folder destination both stand on it.
package layout

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"piedmont/internal/publish/remote"
	"piedmont/internal/release"
)

// DraftsDir is the folder for what is not public.
const DraftsDir = ".drafts"

// lockName is the file there by which a store may keep publishers apart.
const lockName = "lock"

// maxRecord and maxNotes bound what is read, in bytes.
const (
	maxRecord = 64 << 10
	maxNotes  = 1 << 20
)

// ErrUnknown means that there is no such release, draft or file.
var ErrUnknown = errors.New("not found")

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

// Layout is the releases of one project. It remembers those that it has read for
// as long as their records stay the same.
type Layout struct {
	fs      remote.FS
	renamer remote.Renamer // nil where the store renames nothing

	mu    sync.Mutex
	known map[string]known // by version
}

type known struct {
	release release.Release
	size    int64
	changed time.Time
}

// On gives the releases that a store has; the first draft makes what it needs.
func On(s remote.FS) *Layout {
	l := &Layout{fs: s, known: map[string]known{}}
	l.renamer, _ = s.(remote.Renamer)
	return l
}

// DraftID is the identity of a draft: the same manifest gives the same.
func DraftID(encoded []byte) string {
	sum := sha256.Sum256(encoded)
	return hex.EncodeToString(sum[:16])
}

// Release finds the public release of a version.
func (l *Layout) Release(ctx context.Context, v string) (release.Release, error) {
	if release.CheckVersion(v) != nil {
		return release.Release{}, ErrUnknown
	}
	info, err := l.fs.Stat(ctx, v+"/"+release.RecordName)
	if errors.Is(err, fs.ErrNotExist) {
		return release.Release{}, ErrUnknown
	}
	if err != nil {
		return release.Release{}, err
	}
	l.mu.Lock()
	k, ok := l.known[v]
	l.mu.Unlock()
	if ok && k.size == info.Size && k.changed.Equal(info.Modified) {
		return k.release, nil
	}
	r, err := l.read(ctx, v)
	if err != nil {
		return r, err
	}
	l.mu.Lock()
	l.known[v] = known{r, info.Size, info.Modified}
	l.mu.Unlock()
	return r, nil
}

func (l *Layout) read(ctx context.Context, v string) (r release.Release, err error) {
	data, err := remote.Read(ctx, l.fs, v+"/"+release.RecordName, maxRecord)
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal(data, &r.Record); err != nil {
		return r, fmt.Errorf("%s of %s is damaged: %w", release.RecordName, v, err)
	}
	encoded, err := remote.Read(ctx, l.fs, v+"/"+release.Name, release.MaxSize)
	if err != nil {
		return r, err
	}
	if r.Manifest, err = release.Parse(encoded); err != nil {
		return r, err
	}
	r.Notes = l.notes(ctx, v, r.Manifest)
	return r, nil
}

// notes reads the notes of a release in a folder; nil when it has none.
func (l *Layout) notes(ctx context.Context, dir string, m *release.Manifest) []byte {
	for _, f := range m.Files {
		if f.Kind != release.KindNotes || f.Size > maxNotes {
			continue
		}
		if data, err := remote.Read(ctx, l.fs, dir+"/"+f.Name, maxNotes); err == nil {
			return data
		}
	}
	return nil
}

// Releases are all public ones, the highest version first.
func (l *Layout) Releases(ctx context.Context) ([]release.Release, error) {
	entries, err := l.fs.List(ctx, ".")
	if err != nil {
		return nil, err
	}
	var out []release.Release
	for _, e := range entries {
		if !e.Dir || release.CheckVersion(e.Name) != nil {
			continue
		}
		r, err := l.Release(ctx, e.Name)
		if errors.Is(err, ErrUnknown) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("release %s: %w", e.Name, err)
		}
		out = append(out, r)
	}
	slices.SortFunc(out, release.HighestFirst)
	return out, nil
}

// Path is where a file of a public release is; the name is checked against the manifest.
func Path(r release.Release, name string) (string, bool) {
	if name != release.Name && name != release.SumsName {
		if _, ok := r.Manifest.File(name); !ok {
			return "", false
		}
	}
	return r.Manifest.Version + "/" + name, true
}

// Begin opens the draft of a manifest, or finds it again. A draft whose
// manifest is public already has Public set and nothing left to do.
func (l *Layout) Begin(ctx context.Context, encoded []byte) (*Draft, error) {
	m, err := release.Parse(encoded)
	if err != nil {
		return nil, err
	}
	d := &Draft{layout: l, ID: DraftID(encoded), Manifest: m, encoded: encoded}
	if done, err := d.published(ctx); err != nil || done {
		return d, err
	}
	if err := remote.MakeFolder(ctx, l.fs, d.dir()); err != nil {
		return nil, fmt.Errorf("open a draft: %w", err)
	}
	path := d.dir() + "/" + release.Name
	if have, err := remote.Read(ctx, l.fs, path, release.MaxSize); err == nil && string(have) == string(encoded) {
		return d, nil
	}
	return d, remote.Write(ctx, l.fs, path, encoded)
}

// Draft finds a draft by its identity: an open one, or the public release that
// it has become, perhaps by another publisher's doing.
func (l *Layout) Draft(ctx context.Context, id string) (*Draft, error) {
	if b, err := hex.DecodeString(id); err != nil || len(b) != 16 {
		return nil, ErrUnknown
	}
	encoded, err := remote.Read(ctx, l.fs, DraftsDir+"/"+id+"/"+release.Name, release.MaxSize)
	if errors.Is(err, fs.ErrNotExist) {
		return l.became(ctx, id)
	}
	if err != nil {
		return nil, err
	}
	m, err := release.Parse(encoded)
	if err != nil {
		return nil, err
	}
	d := &Draft{layout: l, ID: id, Manifest: m, encoded: encoded}
	_, err = d.published(ctx)
	return d, err
}

// became finds the public release that a draft has become.
func (l *Layout) became(ctx context.Context, id string) (*Draft, error) {
	list, err := l.Releases(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		if strings.HasPrefix(r.Record.Manifest, id) {
			encoded, err := remote.Read(ctx, l.fs, r.Manifest.Version+"/"+release.Name, release.MaxSize)
			return &Draft{layout: l, ID: id, Manifest: r.Manifest, Public: true, encoded: encoded}, err
		}
	}
	return nil, ErrUnknown
}

// Tidy removes drafts in which nothing was written since before.
func (l *Layout) Tidy(ctx context.Context, before time.Time) error {
	drafts, err := l.fs.List(ctx, DraftsDir)
	if err != nil {
		return err
	}
	for _, d := range drafts {
		if !d.Dir { // the lock, or what a killed run began
			if d.Name != lockName && d.Modified.Before(before) {
				if err := l.fs.Remove(ctx, DraftsDir+"/"+d.Name); err != nil {
					return err
				}
			}
			continue
		}
		last := d.Modified
		files, err := l.fs.List(ctx, DraftsDir+"/"+d.Name)
		if err != nil {
			return err
		}
		for _, f := range files {
			if f.Modified.After(last) {
				last = f.Modified
			}
		}
		if last.Before(before) {
			if err := l.fs.Remove(ctx, DraftsDir+"/"+d.Name); err != nil {
				return err
			}
		}
	}
	return nil
}
