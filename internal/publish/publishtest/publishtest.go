// Package publishtest is what every destination must do, whatever it is made of: a
// new kind passes its tests or is none.
package publishtest

import (
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/httpx"
	"piedmont/internal/base/progress"
	"piedmont/internal/publish"
	"piedmont/internal/release"
)

// Place is a destination with what anybody sees there.
type Place struct {
	publish.Destination
	// Look gives a file of a public release as a reader gets it; false when there is
	// none for the public.
	Look func(t *testing.T, version, name string) (string, bool)
	// Another opens the same place again, as another run does.
	Another func() publish.Destination
}

// Run makes all tests; open gives a new, empty place.
func Run(t *testing.T, open func(t *testing.T) Place) {
	for name, test := range map[string]func(*testing.T, Place){
		"publish, and again": again, "other files of one version": conflict, "a break": resume,
		"a draft is hidden": hidden, "other bytes": changed, "two at once": together, "two versions": versions,
		"no file at all": missing,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			test(t, open(t))
		})
	}
}

// Outbox makes a release in a folder.
func Outbox(t *testing.T, version string, files map[string]string) *publish.Outbox {
	t.Helper()
	dir := t.TempDir()
	m := &release.Manifest{Format: release.Format, Project: release.Project{Name: "hutbell"}, Version: version,
		Commit: release.Commit{ID: strings.Repeat("ab", 20), Time: time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)}}
	for name, content := range files {
		a, b := sha256.Sum256([]byte(content)), sha512.Sum512([]byte(content))
		m.Files = append(m.Files, release.Artifact{Name: name, Kind: "bundle", MediaType: "application/gzip",
			Size: int64(len(content)), SHA256: hex.EncodeToString(a[:]), SHA512: hex.EncodeToString(b[:])})
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	encoded, err := m.Encode()
	if err != nil {
		t.Fatal(err)
	}
	return &publish.Outbox{Dir: dir, Manifest: m, Encoded: encoded}
}

var patience = httpx.Patience{Tries: 3, First: time.Millisecond, Most: 10 * time.Millisecond}

func run(t *testing.T, d publish.Destination, o *publish.Outbox) (*publish.Result, error) {
	t.Helper()
	return publish.Run(t.Context(), o, d,
		publish.Options{Name: "place", Jobs: 2, Patience: patience, Events: progress.Discard{}})
}

func sees(t *testing.T, p Place, version string, files map[string]string) {
	t.Helper()
	for name, want := range files {
		if got, ok := p.Look(t, version, name); !ok || got != want {
			t.Errorf("%s of %s: %q, %v; want %q", name, version, got, ok, want)
		}
	}
}

var two = map[string]string{"a.tar.gz": "ring", "b.zip": strings.Repeat("peal ", 5000)}

func again(t *testing.T, p Place) {
	o := Outbox(t, "1.0.0", two)
	res, err := run(t, p, o)
	if err != nil || res.Already || res.Sent != 2 || res.Manifest != release.Digest(o.Encoded) || res.Where == "" {
		t.Fatalf("%+v, %v", res, err)
	}
	sees(t, p, "1.0.0", two)
	sees(t, p, "1.0.0", map[string]string{release.Name: string(o.Encoded),
		release.SumsName: string(o.Manifest.Sums(o.Encoded))})
	res, err = run(t, p.Another(), o)
	if err != nil || !res.Already || res.Sent != 0 {
		t.Errorf("again: %+v, %v", res, err)
	}
}

func conflict(t *testing.T, p Place) {
	if _, err := run(t, p, Outbox(t, "1.0.0", two)); err != nil {
		t.Fatal(err)
	}
	_, err := run(t, p.Another(), Outbox(t, "1.0.0", map[string]string{"a.tar.gz": "gong", "c.zip": "c"}))
	var refusal *fault.Error
	if !errors.As(err, &refusal) || !strings.Contains(err.Error(), "a.tar.gz differs") ||
		!strings.Contains(err.Error(), "c.zip is new") || refusal.Fix == "" {
		t.Errorf("got %v", err)
	}
	sees(t, p, "1.0.0", two)
}

type breaking struct{ r io.Reader }

// Read breaks off where the text ends.
func (b breaking) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if err == io.EOF {
		err = errors.New("the line broke")
	}
	return n, err
}

func begin(ctx context.Context, t *testing.T, d publish.Destination, o *publish.Outbox) publish.Draft {
	t.Helper()
	draft, err := d.Begin(ctx, o)
	if err != nil {
		t.Fatal(err)
	}
	return draft
}

func resume(t *testing.T, p Place) {
	o := Outbox(t, "1.0.0", two)
	f, _ := o.Manifest.File("b.zip")
	draft := begin(t.Context(), t, p, o)
	if got, err := draft.Put(t.Context(), f, 0,
		breaking{strings.NewReader(two["b.zip"][:10000])}); err == nil && got.Complete {
		t.Errorf("a broken line went unnoticed: %+v", got)
	}
	_ = draft.Close()
	draft = begin(t.Context(), t, p.Another(), o)
	state, err := draft.State(t.Context())
	_ = draft.Close()
	if err != nil || state.Public || state.Files["b.zip"].Complete || state.Files["b.zip"].Received > 10000 {
		t.Errorf("%+v, %v", state, err)
	}
	if res, err := run(t, p.Another(), o); err != nil || res.Sent != 2 {
		t.Fatalf("%+v, %v", res, err)
	}
	sees(t, p, "1.0.0", two)
}

func hidden(t *testing.T, p Place) {
	o := Outbox(t, "1.0.0", two)
	draft := begin(t.Context(), t, p, o)
	for _, f := range o.Manifest.Files {
		for _, name := range []string{f.Name, release.Name} {
			if _, ok := p.Look(t, "1.0.0", name); ok {
				t.Errorf("%s can be seen before it is published", name)
			}
		}
		got, err := draft.Put(t.Context(), f, 0, strings.NewReader(two[f.Name]))
		if err != nil || !got.Complete || got.SHA256 != f.SHA256 || got.Source == release.NotChecked {
			t.Errorf("%s: %+v, %v", f.Name, got, err)
		}
	}
	_ = draft.Close()
}

func changed(t *testing.T, p Place) {
	o := Outbox(t, "1.0.0", two)
	if err := os.WriteFile(filepath.Join(o.Dir, "a.tar.gz"), []byte("rang"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := run(t, p, o); err == nil {
		t.Error("other bytes than the manifest's were published")
	}
	if _, ok := p.Look(t, "1.0.0", release.Name); ok {
		t.Error("the release is public")
	}
}

func missing(t *testing.T, p Place) {
	o := Outbox(t, "1.0.0", two)
	draft := begin(t.Context(), t, p, o)
	defer func() { _ = draft.Close() }()
	if _, err := draft.Publish(t.Context()); err == nil {
		t.Error("a draft without files was published")
	}
	if _, ok := p.Look(t, "1.0.0", release.Name); ok {
		t.Error("the release is public")
	}
}

func together(t *testing.T, p Place) {
	o := Outbox(t, "1.0.0", two)
	var group sync.WaitGroup
	errs := make([]error, 3)
	for i := range errs {
		group.Go(func() { _, errs[i] = run(t, p.Another(), o) })
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		t.Errorf("three publishers of one release: %v", err)
	}
	sees(t, p, "1.0.0", two)
}

func versions(t *testing.T, p Place) {
	next := map[string]string{"a.tar.gz": "gong"}
	for version, files := range map[string]map[string]string{"1.0.0": two, "1.1.0-rc.1": next} {
		if _, err := run(t, p, Outbox(t, version, files)); err != nil {
			t.Fatal(err)
		}
	}
	sees(t, p, "1.0.0", two)
	sees(t, p, "1.1.0-rc.1", next)
}

// Publish publishes a release, or ends the test.
func Publish(t *testing.T, d publish.Destination, version string, files map[string]string) {
	t.Helper()
	if _, err := run(t, d, Outbox(t, version, files)); err != nil {
		t.Fatal(err)
	}
}
