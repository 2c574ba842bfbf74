package verify

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/progress"
	"piedmont/internal/release"
)

var options = Options{Jobs: 2, Events: progress.Discard{}}

// release writes a whole release into a folder and gives it.
func published(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	m := &release.Manifest{Format: release.Format, Project: release.Project{Name: "hutbell"}, Version: "1.4.0",
		Commit: release.Commit{ID: strings.Repeat("ab", 20)}}
	for name, content := range map[string]string{"a.zip": "bell", "b.zip": strings.Repeat("dong", 1000)} {
		x, y := sha256.Sum256([]byte(content)), sha512.Sum512([]byte(content))
		m.Files = append(m.Files, release.Artifact{Name: name, Size: int64(len(content)),
			SHA256: hex.EncodeToString(x[:]), SHA512: hex.EncodeToString(y[:])})
		put(t, dir, name, content)
	}
	data, err := m.Encode()
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, release.Name, string(data))
	put(t, dir, release.SumsName, string(m.Sums(data)))
	return dir
}

func put(t *testing.T, dir, name, content string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
}

func states(r *Report) string {
	var out []string
	for _, f := range r.Files {
		out = append(out, f.Name+" "+f.State)
	}
	return strings.Join(out, ", ")
}

func TestFolder(t *testing.T) {
	dir := published(t)
	for _, where := range []string{dir, filepath.Join(dir, release.Name)} {
		r, err := Folder(t.Context(), where, options)
		if err != nil || !r.OK || states(r) != "a.zip ok, b.zip ok, manifest.json ok, SHA256SUMS ok" {
			t.Errorf("%v %+v", err, r)
		}
	}
	changes := map[string]struct {
		do   func(dir string)
		want string
	}{
		"one byte":  {func(d string) { put(t, d, "a.zip", "bull") }, "a.zip differs"},
		"too long":  {func(d string) { put(t, d, "a.zip", "bell!") }, "a.zip differs"},
		"too short": {func(d string) { put(t, d, "a.zip", "") }, "a.zip differs"},
		"gone":      {func(d string) { _ = os.Remove(filepath.Join(d, "b.zip")) }, "b.zip missing"},
		"surplus":   {func(d string) { put(t, d, "c.zip", "x") }, "c.zip surplus"},
		"no sums": {func(d string) { _ = os.Remove(filepath.Join(d, release.SumsName)) },
			"SHA256SUMS missing"},
		"sums of another": {
			func(d string) { put(t, d, release.SumsName, strings.Repeat("0", 64)+"  a.zip\n") }, "SHA256SUMS differs"},
		"sums are no sums": {func(d string) { put(t, d, release.SumsName, "hello\n") }, "SHA256SUMS differs"},
		"another manifest": {func(d string) { append1(t, d, release.Name, "\n") }, "SHA256SUMS differs"},
	}
	for name, c := range changes {
		dir := published(t)
		c.do(dir)
		r, err := Folder(t.Context(), dir, options)
		if err != nil || r.OK || !strings.Contains(states(r), c.want) {
			t.Errorf("%s: %v %+v", name, err, r)
		}
	}
}

func append1(t *testing.T, dir, name, more string) {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, name, string(data)+more)
}

// A manifest that names what is elsewhere is refused before anything is opened,
// and a link in the folder is not followed.
func TestHostileFolder(t *testing.T) {
	dir := published(t)
	data, err := os.ReadFile(filepath.Join(dir, release.Name))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, release.Name, strings.Replace(string(data), `"a.zip"`, `"../../../../etc/passwd"`, 1))
	var bad *BadManifest
	if _, err := Folder(t.Context(), dir, options); !errors.As(err, &bad) {
		t.Errorf("got %v", err)
	}
	dir = published(t)
	if err := os.Remove(filepath.Join(dir, "a.zip")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/dev/zero", filepath.Join(dir, "a.zip")); err != nil {
		t.Fatal(err)
	}
	if _, err := Folder(t.Context(), dir, options); err == nil || !strings.Contains(err.Error(), "not a regular file") {
		t.Errorf("a link to an endless file: %v", err)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

func TestURL(t *testing.T) {
	dir := published(t)
	breaks := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/moved/manifest.json":
			http.Redirect(w, r, "/good/manifest.json", http.StatusFound)
		case strings.HasPrefix(r.URL.Path, "/project/latest/"):
			http.Redirect(w, r, "/good/"+filepath.Base(r.URL.Path), http.StatusFound)
		case r.URL.Path == "/endless/a.zip":
			_, _ = io.Copy(w, endless{})
		case r.URL.Path == "/huge/manifest.json":
			_, _ = io.Copy(w, io.LimitReader(endless{}, release.MaxSize+100))
		case r.URL.Path == "/breaks/b.zip" && breaks == 0:
			breaks++
			w.Header().Set("Content-Length", "4000")
			w.Header().Set("ETag", `"b"`)
			_, _ = io.WriteString(w, strings.Repeat("dong", 500))
			panic(http.ErrAbortHandler)
		case strings.HasPrefix(r.URL.Path, "/project/"), strings.HasPrefix(r.URL.Path, "/none/"):
			http.NotFound(w, r)
		default:
			w.Header().Set("ETag", `"`+strings.TrimSuffix(filepath.Base(r.URL.Path), ".zip")+`"`)
			http.ServeFile(w, r, filepath.Join(dir, filepath.Base(r.URL.Path)))
		}
	}))
	defer server.Close()
	for _, path := range []string{"/good/", "/good", "/good/manifest.json", "/moved/", "/project/", "/breaks/"} {
		r, err := URL(t.Context(), server.URL+path, options)
		if err != nil || !r.OK {
			t.Errorf("%s: %v %+v", path, err, r)
		}
	}
	if breaks != 1 {
		t.Error("no download broke")
	}
	if r, err := URL(t.Context(), server.URL+"/endless/", options); err != nil || r.OK || r.Files[0].State != Differs {
		t.Errorf("an endless file: %v %+v", err, r)
	}
	var bad *BadManifest
	if _, err := URL(t.Context(), server.URL+"/huge/", options); !errors.As(err, &bad) {
		t.Errorf("a huge manifest: %v", err)
	}
	if _, err := URL(t.Context(), server.URL+"/none/", options); err == nil ||
		!strings.Contains(err.Error(), "there is no release at") {
		t.Errorf("nothing there: %v", err)
	}
}
