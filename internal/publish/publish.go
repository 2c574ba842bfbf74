// Package publish brings an outbox to a destination: draft → upload → verify →
// public. It knows destinations by one interface; each kind is a sub-package.
package publish

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"piedmont/internal/base/httpx"
	"piedmont/internal/base/progress"
	"piedmont/internal/release"
)

// Destination is a far side. Its methods may be called again after a
// httpx.TemporaryError.
type Destination interface {
	// Begin opens the draft of a manifest, or finds it again.
	Begin(ctx context.Context, m *release.Manifest, encoded []byte) (Draft, error)
}

// Draft is a release that nobody sees yet.
type Draft interface {
	// State asks what the far side has.
	State(ctx context.Context) (State, error)
	// Put sends one file from offset on and returns its SHA-256 as the far side
	// reports it, or "" when it has not all of it yet.
	Put(ctx context.Context, f release.File, offset int64, r io.Reader) (sha256 string, err error)
	// Publish makes the draft visible in one step; it succeeds again when done before.
	Publish(ctx context.Context) (Published, error)
	// Close frees what the draft holds on this side.
	Close() error
}

// State is what the far side has of a draft.
type State struct {
	Public bool // this manifest is public there
	Files  map[string]FileState
}

// FileState is how far one file has come.
type FileState struct {
	Received int64 // bytes; where to go on
	Complete bool
	SHA256   string // as the far side reports it, when complete
}

// Published is a visible release.
type Published struct {
	Where    string // address or path for people
	Manifest string // SHA-256 of the manifest that is visible there
}

// Refusal is a far side's final no, with what to do.
type Refusal struct {
	Reason string
	Mend   string
}

func (e *Refusal) Error() string {
	if e.Mend == "" {
		return e.Reason
	}
	return e.Reason + "\n" + e.Mend
}

// StoppedError means that publishing broke off and a next run goes on there.
type StoppedError struct {
	Err  error
	Have int // files that the far side has
	Of   int
}

func (e *StoppedError) Error() string {
	return fmt.Sprintf("%v\nThe far side has %d of %d files and shows none of them; run the same command again to go on", e.Err, e.Have, e.Of)
}
func (e *StoppedError) Unwrap() error { return e.Err }

// Options say how to publish.
type Options struct {
	Name     string // the destination's name, for events
	Jobs     int    // uploads at once
	Patience httpx.Patience
	Events   progress.Sink
}

// Result is what publishing did.
type Result struct {
	Published
	Already bool  // it was public before
	Sent    int   // files
	Skipped int   // files that the far side had
	Bytes   int64 // that were sent
	Took    time.Duration
}

// Load reads the manifest of an outbox folder and sees that its files are there.
func Load(dir string) (*release.Manifest, []byte, error) {
	f, err := os.Open(filepath.Join(dir, release.Name))
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = f.Close() }()
	m, encoded, err := release.Read(f)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range m.Files {
		info, err := os.Stat(filepath.Join(dir, f.Name))
		if err != nil || info.Size() != f.Size {
			return nil, nil, fmt.Errorf("%s in %s is not what the manifest says: run \"piedmont make\" again", f.Name, dir)
		}
	}
	return m, encoded, nil
}

// Run publishes the release in dir.
func Run(ctx context.Context, dir string, d Destination, o Options) (*Result, error) {
	start := time.Now()
	m, encoded, err := Load(dir)
	if err != nil {
		return nil, err
	}
	var draft Draft
	err = httpx.Retry(ctx, o.Patience, func() (bool, error) {
		draft, err = d.Begin(ctx, m, encoded)
		return false, err
	})
	if err != nil {
		return nil, err
	}
	defer func() { _ = draft.Close() }()
	r := &runner{dir: dir, m: m, draft: draft, o: o}
	res, err := r.run(ctx)
	if err != nil {
		return nil, err
	}
	if want := release.Digest(encoded); res.Manifest != want {
		return nil, &Refusal{Reason: fmt.Sprintf("the far side shows another manifest than was published: its SHA-256 is %s, ours %s", res.Manifest, want)}
	}
	res.Took = time.Since(start)
	return res, nil
}

type runner struct {
	dir   string
	m     *release.Manifest
	draft Draft
	o     Options
	have  atomic.Int64
	sent  atomic.Int64
	bytes atomic.Int64
}

func (r *runner) run(ctx context.Context) (*Result, error) {
	state, err := r.state(ctx)
	if err != nil {
		return nil, r.stopped(err)
	}
	res := &Result{Already: state.Public}
	if !state.Public {
		if err := r.uploadAll(ctx, state); err != nil {
			return nil, r.stopped(err)
		}
	}
	err = httpx.Retry(ctx, r.o.Patience, func() (bool, error) {
		res.Published, err = r.draft.Publish(ctx)
		return false, err
	})
	if err != nil {
		return nil, r.stopped(err)
	}
	res.Sent, res.Bytes = int(r.sent.Load()), r.bytes.Load()
	res.Skipped = len(r.m.Files) - res.Sent
	return res, nil
}

func (r *runner) stopped(err error) error {
	var refusal *Refusal
	if errors.As(err, &refusal) || errors.Is(err, context.Canceled) {
		return err
	}
	return &StoppedError{err, int(r.have.Load()), len(r.m.Files)}
}

func (r *runner) state(ctx context.Context) (s State, err error) {
	err = httpx.Retry(ctx, r.o.Patience, func() (bool, error) {
		s, err = r.draft.State(ctx)
		return false, err
	})
	return s, err
}

func (r *runner) uploadAll(ctx context.Context, state State) error {
	var left []release.File
	for _, f := range r.m.Files {
		s := state.Files[f.Name]
		if !s.Complete {
			left = append(left, f)
			continue
		}
		if err := r.check(f, s.SHA256); err != nil {
			return err
		}
	}
	r.have.Store(int64(len(r.m.Files) - len(left)))
	r.o.Events.Event(progress.Began{What: "publish", Steps: len(left)})
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, r.o.Jobs))
	for _, f := range left {
		offset := state.Files[f.Name].Received
		g.Go(func() error { return r.upload(ctx, f, offset) })
	}
	return g.Wait()
}

// check holds the digest that the far side reports against the manifest.
func (r *runner) check(f release.File, sha256 string) error {
	if sha256 == f.SHA256 {
		return nil
	}
	return &Refusal{
		Reason: fmt.Sprintf("%s: %s reports the SHA-256 %s, the manifest says %s: the bytes were changed on the way or there", f.Name, r.o.Name, sha256, f.SHA256),
		Mend:   "Nothing was made public. Look at what stands between here and there, such as a proxy",
	}
}

func (r *runner) upload(ctx context.Context, f release.File, offset int64) error {
	id := r.o.Name + "/" + f.Name
	title := "send " + f.Name + " to " + r.o.Name
	start := time.Now()
	r.o.Events.Event(progress.Started{ID: id, Title: title, Total: f.Size})
	first := true
	err := httpx.Retry(ctx, r.o.Patience, func() (progress bool, err error) {
		if !first {
			// Ask where to go on: what arrived before the break is kept there.
			s, err := r.draft.State(ctx)
			if err != nil {
				return false, err
			}
			st := s.Files[f.Name]
			if st.Complete || s.Public {
				return true, nil
			}
			progress, offset = st.Received > offset, st.Received
		}
		first = false
		sum, err := r.put(ctx, f, offset, id)
		if err != nil {
			return progress, err
		}
		if sum == "" {
			return progress, &httpx.TemporaryError{Err: fmt.Errorf("the far side kept a part of %s only", f.Name)}
		}
		return true, r.check(f, sum)
	})
	if err != nil {
		err = fmt.Errorf("send %s: %w", f.Name, err)
		if ctx.Err() == nil {
			r.o.Events.Event(progress.Failed{ID: id, Title: title, Err: err})
		}
		return err
	}
	r.have.Add(1)
	r.sent.Add(1)
	r.o.Events.Event(progress.Finished{ID: id, Title: title, Took: time.Since(start), Size: f.Size})
	return nil
}

func (r *runner) put(ctx context.Context, f release.File, offset int64, id string) (string, error) {
	// All bytes are there and the file is not complete: somebody is about to
	// finish it, or was killed just before. No range is left to send, so it
	// begins anew; where somebody is at work, that is told to come again.
	if offset >= f.Size {
		offset = 0
	}
	file, err := os.Open(filepath.Join(r.dir, f.Name))
	if err != nil {
		return "", err
	}
	defer func() { _ = file.Close() }()
	if _, err := file.Seek(offset, io.SeekStart); err != nil {
		return "", err
	}
	done := offset
	return r.draft.Put(ctx, f, offset, &httpx.Reader{R: io.LimitReader(file, f.Size-offset), Touch: func(n int) {
		done += int64(n)
		r.bytes.Add(int64(n))
		r.o.Events.Event(progress.Moved{ID: id, Done: done})
	}})
}

// Conflict is the refusal of a version that is public with other files.
func Conflict(where, version string, differences []string) *Refusal {
	return &Refusal{
		Reason: fmt.Sprintf("%s is public already at %s, with other files: %s", version, where, strings.Join(differences, ", ")),
		Mend:   "A public release never changes. Release a new version",
	}
}

// Inspector is a destination that can be asked in advance, without changing it.
type Inspector interface {
	Inspect(ctx context.Context, project, version string) (Inspection, error)
}

// Inspection is what a far side says of itself.
type Inspection struct {
	Says   string    // in a few words, when all is well
	Lacks  []string  // rights that publishing needs and the token has not
	Clock  time.Time // the far side's, zero when not known
	Public string    // the version, when it is public there
}
