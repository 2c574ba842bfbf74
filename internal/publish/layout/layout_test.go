package layout

import (
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

	"piedmont/internal/publish/remote/local"
	"piedmont/internal/release"
)

func encode(t *testing.T, version string, files map[string]string) []byte {
	t.Helper()
	m := &release.Manifest{Format: release.Format, Project: release.Project{Name: "hutbell"}, Version: version,
		Commit: release.Commit{ID: strings.Repeat("ab", 20)}}
	for name, content := range files {
		a, b := sha256.Sum256([]byte(content)), sha512.Sum512([]byte(content))
		m.Files = append(m.Files, release.Artifact{Name: name, Size: int64(len(content)),
			SHA256: hex.EncodeToString(a[:]), SHA512: hex.EncodeToString(b[:])})
	}
	data, err := m.Encode()
	if err != nil {
		t.Fatal(err)
	}
	return data
}

func begin(t *testing.T, s *Layout, data []byte) *Draft {
	t.Helper()
	d, err := s.Begin(t.Context(), data)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func publish(t *testing.T, s *Layout, version string, files map[string]string) {
	t.Helper()
	d := begin(t, s, encode(t, version, files))
	for name, content := range files {
		if _, err := d.Put(t.Context(), name, 0, strings.NewReader(content)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := d.Publish(t.Context(), time.Now()); err != nil {
		t.Fatal(err)
	}
}

// What killed runs left in a draft does not become public with it.
func TestLeftoversStayBehind(t *testing.T) {
	dir := t.TempDir()
	s := On(local.FS{Dir: dir, Work: DraftsDir})
	files := map[string]string{"a.zip": "bell"}
	d := begin(t, s, encode(t, "1.0.0", files))
	for _, left := range []string{".new-123", ".part-a.zip", "stray.txt", "index.html"} {
		if err := os.WriteFile(filepath.Join(dir, d.dir(), left), []byte("left"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := d.Put(t.Context(), "a.zip", 0, strings.NewReader("bell")); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Publish(t.Context(), time.Now()); err != nil {
		t.Fatal(err)
	}
	entries, err := os.ReadDir(filepath.Join(dir, "1.0.0"))
	if err != nil || len(entries) != 4 { // the file, manifest, sums, record
		t.Errorf("%v %v", entries, err)
	}
}

type breaking struct{ r io.Reader }

func (b breaking) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if err == io.EOF {
		err = errors.New("the line broke")
	}
	return n, err
}

func received(t *testing.T, d *Draft) int64 {
	t.Helper()
	list, err := d.State(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return list[0].Received
}

func TestResume(t *testing.T) {
	dir := t.TempDir()
	s := On(local.FS{Dir: dir, Work: DraftsDir})
	d := begin(t, s, encode(t, "1.0.0", map[string]string{"a.zip": "0123456789"}))
	if _, err := d.Put(t.Context(), "a.zip", 0, breaking{strings.NewReader("0123")}); err == nil {
		t.Error("a broken line went unnoticed")
	}
	again, err := s.Draft(t.Context(), d.ID)
	if err != nil || received(t, again) != 4 {
		t.Fatalf("%v", err)
	}
	var offset *OffsetError
	if _, err := again.Put(t.Context(), "a.zip", 7, strings.NewReader("789")); !errors.As(err, &offset) ||
		offset.Want != 4 {
		t.Errorf("a hole: %v", err)
	}
	// Other bytes that continue it are found out, and dropped.
	var mismatch *MismatchError
	if _, err := again.Put(t.Context(), "a.zip", 4, strings.NewReader("xxxxxx")); !errors.As(err, &mismatch) {
		t.Errorf("other bytes: %v", err)
	}
	if received(t, again) != 0 {
		t.Error("what did not match is kept")
	}
	if got, err := again.Put(t.Context(), "a.zip", 0, strings.NewReader("0123456789")); err != nil ||
		!got.Complete || got.SHA256 != again.Manifest.Files[0].SHA256 {
		t.Errorf("%+v %v", got, err)
	}
	if _, err := again.Put(t.Context(), "none.zip", 0, strings.NewReader("")); !errors.Is(err, ErrUnknown) {
		t.Errorf("a file that is not in the manifest: %v", err)
	}
}

// Of two drafts of one version the first that is published wins.
func TestTwoDraftsOfOneVersion(t *testing.T) {
	dir := t.TempDir()
	s := On(local.FS{Dir: dir, Work: DraftsDir})
	one := begin(t, s, encode(t, "1.0.0", map[string]string{"a.zip": "one"}))
	two := begin(t, s, encode(t, "1.0.0", map[string]string{"a.zip": "two"}))
	for d, content := range map[*Draft]string{one: "one", two: "two"} {
		if _, err := d.Put(t.Context(), "a.zip", 0, strings.NewReader(content)); err != nil {
			t.Fatal(err)
		}
	}
	var group sync.WaitGroup
	results := make([]error, 2)
	for i, d := range []*Draft{one, two} {
		group.Go(func() { _, results[i] = d.Publish(t.Context(), time.Now()) })
	}
	group.Wait()
	var conflict *ConflictError
	if (results[0] == nil) == (results[1] == nil) || !errors.As(errors.Join(results...), &conflict) {
		t.Errorf("got %v", results)
	}
	if list, err := s.Releases(t.Context()); err != nil || len(list) != 1 {
		t.Errorf("%v %v", list, err)
	}
}

func TestOrderAndLatest(t *testing.T) {
	dir := t.TempDir()
	s := On(local.FS{Dir: dir, Work: DraftsDir})
	if list, err := s.Releases(t.Context()); err != nil || len(list) != 0 {
		t.Errorf("an empty shelf: %v %v", list, err)
	}
	for _, v := range []string{"1.9.0", "2.0.0-rc.1", "1.10.0"} {
		publish(t, s, v, map[string]string{"a.zip": v})
	}
	if err := os.Mkdir(filepath.Join(dir, "not-a-version"), 0o755); err != nil {
		t.Fatal(err)
	}
	list, err := s.Releases(t.Context())
	if err != nil || len(list) != 3 || list[0].Manifest.Version != "2.0.0-rc.1" || list[2].Manifest.Version != "1.9.0" {
		t.Errorf("%v %+v", err, list)
	}
	if latest, ok := release.Latest(list); !ok || latest.Manifest.Version != "1.10.0" {
		t.Errorf("the latest is %s", latest.Manifest.Version)
	}
	if _, ok := Path(list[0], "../1.9.0/a.zip"); ok {
		t.Error("a path left its release")
	}
}
