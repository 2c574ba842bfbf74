package layout

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/release"
)

// Draft is a release that nobody sees yet.
type Draft struct {
	ID       string
	Manifest *release.Manifest
	Public   bool // this very manifest is public
	shelf    *Shelf
	encoded  []byte
}

// FileState is how far a file of a draft has come.
type FileState struct {
	Name     string `json:"name"`
	Size     int64  `json:"size"`
	SHA256   string `json:"sha256"`
	Received int64  `json:"received"` // bytes that are kept; where to go on
	Complete bool   `json:"complete"`
}

// MismatchError means that the bytes of a file are not those of the manifest.
type MismatchError struct{ Name, Want, Got string }

func (e *MismatchError) Error() string {
	return fmt.Sprintf("%s arrived with another content: its SHA-256 is %s, the manifest says %s", e.Name, e.Got, e.Want)
}

// OffsetError means that an upload does not begin where the kept bytes end.
type OffsetError struct{ Want int64 }

func (e *OffsetError) Error() string { return fmt.Sprintf("go on at byte %d", e.Want) }

// ErrTooLong means that more bytes came than the manifest allows.
var ErrTooLong = errors.New("more bytes arrived than the manifest says")

func (d *Draft) dir() string { return filepath.Join(d.shelf.dir, draftsDir, d.ID) }

// published sees whether the version is public: this manifest, or another.
func (d *Draft) published() (bool, error) {
	r, err := d.shelf.Release(d.Manifest.Version)
	if errors.Is(err, ErrUnknown) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if r.Record.Manifest != digest(d.encoded) {
		return false, &ConflictError{d.Manifest.Version, release.Difference(r.Manifest, d.Manifest)}
	}
	d.Public = true
	return true, nil
}

// State tells what is there of each file.
func (d *Draft) State() []FileState {
	out := make([]FileState, len(d.Manifest.Files))
	for i, f := range d.Manifest.Files {
		s := FileState{Name: f.Name, Size: f.Size, SHA256: f.SHA256}
		if d.Public {
			s.Received, s.Complete = f.Size, true
		} else if info, err := os.Stat(filepath.Join(d.dir(), f.Name)); err == nil && info.Size() == f.Size {
			s.Received, s.Complete = f.Size, true
		} else if info, err := os.Stat(d.part(f.Name)); err == nil && info.Size() <= f.Size {
			s.Received = info.Size()
		}
		out[i] = s
	}
	return out
}

func (d *Draft) part(name string) string { return filepath.Join(d.dir(), ".part-"+name) }

// Put takes the bytes of one file from offset on. What arrives is kept even
// when r breaks off, so that a later call can go on there; a file that is
// complete and does not match is dropped. It returns the SHA-256 of the whole
// file, in hex, when the file is complete, else "".
func (d *Draft) Put(name string, offset int64, r io.Reader) (string, error) {
	f, ok := d.Manifest.File(name)
	if !ok {
		return "", ErrUnknown
	}
	final := filepath.Join(d.dir(), name)
	if info, err := os.Stat(final); d.Public || (err == nil && info.Size() == f.Size) {
		return f.SHA256, nil
	}
	part, err := os.OpenFile(d.part(name), os.O_RDWR|os.O_CREATE, 0o644)
	if errors.Is(err, fs.ErrNotExist) {
		// The draft's folder is gone: another publisher may have made it public.
		if done, _ := d.published(); done {
			return f.SHA256, nil
		}
		return "", ErrUnknown
	}
	if err != nil {
		return "", fmt.Errorf("keep %s: %w", name, err)
	}
	defer func() { _ = part.Close() }()
	info, err := part.Stat()
	if err != nil {
		return "", err
	}
	if offset == 0 && info.Size() > 0 {
		if err := part.Truncate(0); err != nil {
			return "", err
		}
	} else if offset != info.Size() {
		return "", &OffsetError{info.Size()}
	}
	a, b := sha256.New(), sha512.New()
	digests := io.MultiWriter(a, b)
	if _, err := io.Copy(digests, io.LimitReader(part, offset)); err != nil {
		return "", fmt.Errorf("read what is there of %s: %w", name, err)
	}
	n, err := io.CopyBuffer(io.MultiWriter(part, digests), io.LimitReader(r, f.Size-offset), make([]byte, 512<<10))
	if err != nil {
		return "", err
	}
	if offset+n < f.Size {
		return "", nil
	}
	var more [1]byte
	if k, _ := r.Read(more[:]); k > 0 {
		_ = os.Remove(d.part(name))
		return "", ErrTooLong
	}
	got := hex.EncodeToString(a.Sum(nil))
	if got != f.SHA256 || hex.EncodeToString(b.Sum(nil)) != f.SHA512 {
		_ = os.Remove(d.part(name))
		return "", &MismatchError{name, f.SHA256, got}
	}
	if err := part.Sync(); err != nil {
		return "", fmt.Errorf("keep %s: %w", name, err)
	}
	if err := part.Close(); err != nil {
		return "", fmt.Errorf("keep %s: %w", name, err)
	}
	return got, os.Rename(d.part(name), final)
}

// Publish makes the draft public in one step, or says what is missing. Doing it
// again, or side by side, ends as the same release.
func (d *Draft) Publish(now time.Time) (Release, error) { return d.PublishWith(now, nil) }

// PublishWith does the same and puts further files beside those of the release,
// which appear with it.
func (d *Draft) PublishWith(now time.Time, beside func(Release) (map[string][]byte, error)) (Release, error) {
	if done, err := d.published(); err != nil {
		return Release{}, err
	} else if done {
		return d.shelf.Release(d.Manifest.Version)
	}
	var missing []string
	for _, f := range d.State() {
		if !f.Complete {
			missing = append(missing, f.Name)
		}
	}
	if len(missing) > 0 {
		return Release{}, &IncompleteError{missing}
	}
	rel := Release{Record{"public", now.UTC().Truncate(time.Second), digest(d.encoded)}, d.Manifest, notes(d.dir(), d.Manifest)}
	record, err := json.MarshalIndent(rel.Record, "", "  ")
	if err != nil {
		return Release{}, err
	}
	more := map[string][]byte{}
	if beside != nil {
		if more, err = beside(rel); err != nil {
			return Release{}, err
		}
	}
	// Before anything is written: what killed runs left beside the files.
	if err := d.clear(); err != nil {
		return Release{}, err
	}
	more[release.SumsName], more[RecordName] = d.Manifest.Sums(d.encoded), append(record, '\n')
	for name, data := range more {
		if err := fileio.Write(filepath.Join(d.dir(), name), data, 0o644); err != nil {
			return Release{}, err
		}
	}
	if err := fileio.SyncDir(d.dir()); err != nil {
		return Release{}, err
	}
	err = os.Rename(d.dir(), filepath.Join(d.shelf.dir, d.Manifest.Version))
	if err != nil {
		// Somebody may have been first.
		if done, again := d.published(); again != nil || !done {
			return Release{}, errors.Join(again, fmt.Errorf("make %s public: %w", d.Manifest.Version, err))
		}
	}
	if err := fileio.SyncDir(d.shelf.dir); err != nil {
		return Release{}, err
	}
	return d.shelf.Release(d.Manifest.Version)
}

// clear removes what killed runs left beside the release's own files.
func (d *Draft) clear() error {
	entries, err := os.ReadDir(d.dir())
	if err != nil {
		return err
	}
	for _, e := range entries {
		_, listed := d.Manifest.File(e.Name())
		if listed || e.Name() == release.Name {
			continue
		}
		if err := os.RemoveAll(filepath.Join(d.dir(), e.Name())); err != nil {
			return err
		}
	}
	return nil
}

// Abandon removes the draft and what was kept of it.
func (d *Draft) Abandon() error {
	if err := os.RemoveAll(d.dir()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
