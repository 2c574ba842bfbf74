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

	"piedmont/internal/base/fault"
	"piedmont/internal/base/httpx"
	"piedmont/internal/base/progress"
	"piedmont/internal/release"
)

// Destination is where a release is published. Its methods may be called again after an
// httpx.TemporaryError.
type Destination interface {
	// Begin opens the draft of a release, or finds it again.
	Begin(ctx context.Context, o *Outbox) (Draft, error)
}

// Draft is a release that nobody sees yet.
type Draft interface {
	// State asks what the destination has.
	State(ctx context.Context) (State, error)
	// Put sends one file from offset on, and tells how far it came.
	Put(ctx context.Context, f release.Artifact, offset int64, r io.Reader) (release.Receipt, error)
	// Publish makes the draft visible in one step; it succeeds again when done before.
	Publish(ctx context.Context) (Published, error)
	// Close frees what the draft holds on this side.
	Close() error
}

// State is what the destination has of a draft.
type State struct {
	Public bool // this manifest is public there
	Files  map[string]release.Receipt
}

// Published is a visible release.
type Published struct {
	Where    string // address or path for people
	Manifest string // SHA-256 of the manifest that is visible there
}

// Outbox is a finished release in a folder of this machine.
type Outbox struct {
	Dir      string
	Manifest *release.Manifest
	Encoded  []byte // the manifest as it is published
}

// StoppedError means that publishing broke off and a next run goes on there.
type StoppedError struct {
	Err  error
	Have int // files that the destination has
	Of   int
}

func (e *StoppedError) Error() string {
	return fmt.Sprintf("%v\nThe far side has %d of %d files and shows none of them; run the same command "+
		"again to go on", e.Err, e.Have, e.Of)
}
func (e *StoppedError) Unwrap() error { return e.Err }

// ExitStatus is that of publishing that can go on.
func (*StoppedError) ExitStatus() fault.Status { return fault.Stopped }

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
	Skipped int   // files that the destination had
	Bytes   int64 // that were sent
	Took    time.Duration
}

// Load reads the manifest of an outbox folder and sees that its files are there.
func Load(dir string) (*Outbox, error) {
	f, err := os.Open(filepath.Join(dir, release.Name))
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	m, encoded, err := release.Read(f)
	if err != nil {
		return nil, err
	}
	for _, f := range m.Files {
		info, err := os.Stat(filepath.Join(dir, f.Name))
		if err != nil || info.Size() != f.Size {
			return nil, fmt.Errorf("%s in %s is not what the manifest says: run \"piedmont make\" again", f.Name, dir)
		}
	}
	return &Outbox{dir, m, encoded}, nil
}

// Run publishes a release.
func Run(ctx context.Context, out *Outbox, d Destination, o Options) (*Result, error) {
	start := time.Now()
	var draft Draft
	err := httpx.Retry(ctx, o.Patience, func() (_ bool, err error) {
		draft, err = d.Begin(ctx, out)
		return false, err
	})
	if err != nil {
		return nil, err
	}
	defer func() { _ = draft.Close() }()
	r := &runner{dir: out.Dir, m: out.Manifest, draft: draft, o: o}
	res, err := r.run(ctx)
	if err != nil {
		return nil, err
	}
	if want := release.Digest(out.Encoded); res.Manifest != want {
		return nil, fault.New(fmt.Sprintf("the far side shows another manifest than was published: its "+
			"SHA-256 is %s, ours %s", res.Manifest, want), "")
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
	var refusal *fault.Error
	if errors.As(err, &refusal) || errors.Is(err, context.Canceled) {
		return err // a final no
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
	var left []release.Artifact
	for _, f := range r.m.Files {
		s := state.Files[f.Name]
		if !s.Complete {
			left = append(left, f)
			continue
		}
		if err := r.check(f, s); err != nil {
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

// check holds a file of the destination against the manifest.
func (r *runner) check(f release.Artifact, got release.Receipt) error {
	if got.SHA256 == f.SHA256 && got.Source != release.NotChecked {
		return nil
	}
	sum := got.SHA256
	if sum == "" {
		sum = "of nothing: it reported none"
	}
	return fault.New(
		fmt.Sprintf("%s: %s reports the SHA-256 %s, the manifest says %s: the bytes were changed on the way "+
			"or there", f.Name, r.o.Name, sum, f.SHA256),
		"Nothing was made public. Look at what stands between here and there, such as a proxy")
}

func (r *runner) upload(ctx context.Context, f release.Artifact, offset int64) error {
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
		got, err := r.put(ctx, f, offset, id)
		if err != nil {
			return progress, err
		}
		if !got.Complete {
			return progress, &httpx.TemporaryError{Err: fmt.Errorf("the far side kept a part of %s only", f.Name)}
		}
		return true, r.check(f, got)
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

func (r *runner) put(ctx context.Context, f release.Artifact, offset int64, id string) (release.Receipt, error) {
	// All bytes are there and the file is not complete: somebody is about to
	// finish it, or was killed just before. No range is left to send, so it
	// begins anew; where somebody is at work, that is told to come again.
	if offset >= f.Size {
		offset = 0
	}
	file, err := os.Open(filepath.Join(r.dir, f.Name))
	if err != nil {
		return release.Receipt{}, err
	}
	defer func() { _ = file.Close() }()
	if _, err := file.Seek(offset, io.SeekStart); err != nil {
		return release.Receipt{}, err
	}
	done := offset
	return r.draft.Put(ctx, f, offset, &httpx.Reader{R: io.LimitReader(file, f.Size-offset), Touch: func(n int) {
		done += int64(n)
		r.bytes.Add(int64(n))
		r.o.Events.Event(progress.Moved{ID: id, Done: done})
	}})
}

// Conflict is the refusal of a version that is public with other files.
func Conflict(where, version string, differences []string) error {
	return fault.New(fmt.Sprintf("%s is public already at %s, with other files: %s", version, where,
		strings.Join(differences, ", ")),
		"A public release never changes. Release a new version")
}
