package layout

import (
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync"
	"time"

	"piedmont/internal/publish/remote"
	"piedmont/internal/release"
)

// Draft is a release that nobody sees yet.
type Draft struct {
	ID       string
	Manifest *release.Manifest
	Public   bool // this very manifest is public
	layout   *Layout
	encoded  []byte
	seen     sync.Map // files that were read back and match: each is read once
}

// MismatchError means that the bytes of a file are not those of the manifest.
type MismatchError struct{ Name, Want, Got string }

func (e *MismatchError) Error() string {
	return fmt.Sprintf("%s arrived with another content: its SHA-256 is %s, the manifest says %s", e.Name,
		e.Got, e.Want)
}

// OffsetError means that an upload does not begin where the kept bytes end.
type OffsetError struct{ Want int64 }

func (e *OffsetError) Error() string { return fmt.Sprintf("go on at byte %d", e.Want) }

// ErrTooLong means that more bytes came than the manifest allows.
var ErrTooLong = errors.New("more bytes arrived than the manifest says")

// dir is where the draft's files are.
func (d *Draft) dir() string {
	if d.layout.renamer == nil {
		return d.Manifest.Version
	}
	return DraftsDir + "/" + d.ID
}

func (d *Draft) final(name string) string { return d.dir() + "/" + name }

// part is where a file is until it is complete.
func (d *Draft) part(name string) string {
	if d.layout.renamer == nil {
		return d.final(name)
	}
	return d.dir() + "/.part-" + name
}

// published sees whether the version is public: this manifest, or another.
func (d *Draft) published(ctx context.Context) (bool, error) {
	r, err := d.layout.Release(ctx, d.Manifest.Version)
	if errors.Is(err, ErrUnknown) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if r.Record.Manifest != release.Digest(d.encoded) {
		return false, &ConflictError{d.Manifest.Version, release.Difference(r.Manifest, d.Manifest)}
	}
	d.Public = true
	return true, nil
}

// sizeOf is how many bytes of a file are there, -1 when it is not.
func (d *Draft) sizeOf(ctx context.Context, name string) (int64, error) {
	info, err := d.layout.fs.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return -1, nil
	}
	return info.Size, err
}

// State tells what is there of each file.
func (d *Draft) State(ctx context.Context) ([]release.Receipt, error) {
	out := make([]release.Receipt, len(d.Manifest.Files))
	for i, f := range d.Manifest.Files {
		var err error
		if out[i], err = d.receipt(ctx, f); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (d *Draft) receipt(ctx context.Context, f release.Artifact) (release.Receipt, error) {
	r := release.Receipt{Name: f.Name, Size: f.Size, SHA256: f.SHA256}
	if d.Public {
		r.Received, r.Complete, r.Source = f.Size, true, release.Reported
		return r, nil
	}
	size, err := d.sizeOf(ctx, d.final(f.Name))
	switch {
	case err != nil:
		return r, err
	case size == f.Size && d.layout.renamer != nil:
		// A file gets its name there only when it matches.
		r.Received, r.Complete, r.Source = f.Size, true, release.Reported
		return r, nil
	case size == f.Size:
		// It may be of another draft of this version.
		if _, ok := d.seen.Load(f.Name); !ok {
			got, err := d.readBack(ctx, f.Name)
			if err != nil || got != digestsOf(f) {
				return r, err
			}
			d.seen.Store(f.Name, true)
		}
		r.Received, r.Complete, r.Source = f.Size, true, release.ReadBack
		return r, nil
	case d.layout.renamer == nil:
		return r, nil // such a store keeps no beginnings
	}
	if size, err = d.sizeOf(ctx, d.part(f.Name)); size > 0 && size <= f.Size {
		r.Received = size
	}
	return r, err
}

// digests are those of one file, in hex.
type digests struct{ sha256, sha512 string }

func digestsOf(f release.Artifact) digests { return digests{f.SHA256, f.SHA512} }

// readBack takes the digests of what is there.
func (d *Draft) readBack(ctx context.Context, name string) (digests, error) {
	r, err := d.layout.fs.Open(ctx, d.final(name), 0)
	if err != nil {
		return digests{}, err
	}
	defer func() { _ = r.Close() }()
	a, b := sha256.New(), sha512.New()
	if _, err := io.CopyBuffer(io.MultiWriter(a, b), struct{ io.Reader }{r}, make([]byte, 256<<10)); err != nil {
		return digests{}, fmt.Errorf("read %s back: %w", name, err)
	}
	return digests{hex.EncodeToString(a.Sum(nil)), hex.EncodeToString(b.Sum(nil))}, nil
}

// Put takes the bytes of one file from offset on. What arrives is kept even when r
// breaks off, where the store can, so that a later call can go on there; a file
// that is complete and does not match is dropped.
func (d *Draft) Put(ctx context.Context, name string, offset int64, r io.Reader) (release.Receipt, error) {
	f, ok := d.Manifest.File(name)
	if !ok {
		return release.Receipt{}, ErrUnknown
	}
	done := release.Receipt{Name: name, Size: f.Size, SHA256: f.SHA256, Received: f.Size, Complete: true,
		Source: release.Reported}
	if d.Public {
		return done, nil
	}
	if d.layout.renamer != nil {
		size, err := d.sizeOf(ctx, d.final(name))
		if err != nil || size == f.Size {
			return done, err
		}
	}
	if err := d.open(ctx, name, offset); err != nil || d.Public {
		return done, err
	}
	d.seen.Delete(name)
	// Both digests are taken of what passes, after what is there already.
	a, b := sha256.New(), sha512.New()
	sums := io.MultiWriter(a, b)
	if err := d.begun(ctx, name, offset, sums); err != nil {
		return release.Receipt{}, err
	}
	got, err := d.layout.fs.Put(ctx, d.part(name), offset, io.TeeReader(io.LimitReader(r, f.Size-offset), sums))
	if err != nil {
		if gone, _ := d.published(ctx); gone && errors.Is(err, fs.ErrNotExist) {
			return done, nil // another publisher made it public
		}
		return got, err
	}
	if got.Received < f.Size {
		return release.Receipt{Name: name, Size: f.Size, Received: got.Received}, nil
	}
	var more [1]byte
	if k, _ := r.Read(more[:]); k > 0 {
		return release.Receipt{}, errors.Join(ErrTooLong, d.layout.fs.Remove(ctx, d.part(name)))
	}
	return d.finish(ctx, f, digests{hex.EncodeToString(a.Sum(nil)), hex.EncodeToString(b.Sum(nil))}, got)
}

// open sees that an upload can go on where it wants to.
func (d *Draft) open(ctx context.Context, name string, offset int64) error {
	if d.layout.renamer == nil {
		if offset > 0 {
			return &OffsetError{0}
		}
		return nil
	}
	if size, err := d.sizeOf(ctx, d.final(release.Name)); err != nil {
		return err
	} else if size < 0 {
		// The draft is gone: another publisher may have made it public.
		if done, err := d.published(ctx); done || err != nil {
			return err
		}
		return ErrUnknown
	}
	if offset == 0 {
		return nil
	}
	size, err := d.sizeOf(ctx, d.part(name))
	if err == nil && size != offset {
		err = &OffsetError{max(0, size)}
	}
	return err
}

// begun reads what is there of a file.
func (d *Draft) begun(ctx context.Context, name string, offset int64, w io.Writer) error {
	if offset == 0 {
		return nil
	}
	r, err := d.layout.fs.Open(ctx, d.part(name), 0)
	if err != nil {
		return fmt.Errorf("read what is there of %s: %w", name, err)
	}
	defer func() { _ = r.Close() }()
	if _, err := io.Copy(w, io.LimitReader(r, offset)); err != nil {
		return fmt.Errorf("read what is there of %s: %w", name, err)
	}
	return nil
}

// finish holds a file against the manifest: by the digests of what was sent, and
// by what the store says of what it has, or by reading it back.
func (d *Draft) finish(ctx context.Context, f release.Artifact, sent digests,
	got release.Receipt) (release.Receipt, error) {
	out := release.Receipt{Name: f.Name, Size: f.Size, SHA256: sent.sha256, Received: f.Size, Complete: true,
		Source: release.Reported}
	have := sent
	_, faithful := d.layout.fs.(remote.Faithful)
	switch {
	case faithful:
	case got.SHA256 != "":
		have.sha256 = got.SHA256
	default:
		var err error
		if have, err = d.readBack(ctx, f.Name); err != nil {
			return release.Receipt{}, err
		}
		out.Source = release.ReadBack
	}
	for _, one := range []digests{sent, have} {
		if one != digestsOf(f) {
			wrong := &MismatchError{f.Name, f.SHA256, one.sha256}
			return release.Receipt{}, errors.Join(wrong, d.layout.fs.Remove(ctx, d.part(f.Name)))
		}
	}
	if d.layout.renamer == nil {
		d.seen.Store(f.Name, true)
		return out, nil
	}
	return out, d.layout.renamer.Rename(ctx, d.part(f.Name), d.final(f.Name))
}

// Publish makes the draft public in one step, or says what is missing. Doing it
// again, or side by side, ends as the same release.
func (d *Draft) Publish(ctx context.Context, now time.Time) (release.Release, error) {
	return d.PublishWith(ctx, now, nil)
}

// PublishWith does the same and puts further files beside those of the release,
// which appear with it.
func (d *Draft) PublishWith(ctx context.Context, now time.Time, beside func(release.Release) (map[string][]byte,
	error)) (release.Release, error) {
	l := d.layout
	if done, err := d.published(ctx); err != nil {
		return release.Release{}, err
	} else if done {
		return l.Release(ctx, d.Manifest.Version)
	}
	state, err := d.State(ctx)
	if err != nil {
		return release.Release{}, err
	}
	var missing []string
	for _, f := range state {
		if !f.Complete {
			missing = append(missing, f.Name)
		}
	}
	if len(missing) > 0 {
		return release.Release{}, &IncompleteError{missing}
	}
	rel := release.Release{Record: release.Record{State: release.StatePublic,
		Published: now.UTC().Truncate(time.Second), Manifest: release.Digest(d.encoded)},
		Manifest: d.Manifest, Notes: l.notes(ctx, d.dir(), d.Manifest)}
	if err := d.complete(ctx, rel, beside); err != nil {
		return release.Release{}, err
	}
	if l.renamer == nil {
		return l.Release(ctx, d.Manifest.Version)
	}
	if err := l.renamer.Rename(ctx, d.dir(), d.Manifest.Version); err != nil {
		// Somebody may have been first.
		if done, again := d.published(ctx); again != nil || !done {
			return release.Release{}, errors.Join(again, fmt.Errorf("make %s public: %w", d.Manifest.Version, err))
		}
	}
	return l.Release(ctx, d.Manifest.Version)
}

// complete writes what a release has besides its files; the record is the last.
func (d *Draft) complete(ctx context.Context, rel release.Release,
	beside func(release.Release) (map[string][]byte, error)) error {
	record, err := json.MarshalIndent(rel.Record, "", "  ")
	if err != nil {
		return err
	}
	more := map[string][]byte{}
	if beside != nil {
		if more, err = beside(rel); err != nil {
			return err
		}
	}
	// Before anything is written: what killed runs left beside the files.
	if err := d.clear(ctx); err != nil {
		return err
	}
	more[release.SumsName] = d.Manifest.Sums(d.encoded)
	for name, data := range more {
		if err := remote.Write(ctx, d.layout.fs, d.final(name), data); err != nil {
			return err
		}
	}
	return remote.Write(ctx, d.layout.fs, d.final(release.RecordName), append(record, '\n'))
}

// clear removes what killed runs left beside the release's own files.
func (d *Draft) clear(ctx context.Context) error {
	entries, err := d.layout.fs.List(ctx, d.dir())
	if err != nil {
		return err
	}
	for _, e := range entries {
		_, listed := d.Manifest.File(e.Name)
		if listed || slices.Contains([]string{release.Name, release.RecordName}, e.Name) {
			continue
		}
		if err := d.layout.fs.Remove(ctx, d.final(e.Name)); err != nil {
			return err
		}
	}
	return nil
}

// Abandon removes the draft and what was kept of it.
func (d *Draft) Abandon(ctx context.Context) error {
	if d.Public {
		return nil
	}
	return d.layout.fs.Remove(ctx, d.dir())
}
