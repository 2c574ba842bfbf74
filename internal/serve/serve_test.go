package serve

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"piedmont/internal/base/httpx"
	"piedmont/internal/release"
	"piedmont/internal/serve/api"
)

// bench is a server with one project and a token of every right.
type bench struct {
	t      *testing.T
	url    string
	data   string
	token  string
	server *Server
}

func newBench(t *testing.T, change func(*Limits)) *bench {
	t.Helper()
	limits := DefaultLimits
	if change != nil {
		change(&limits)
	}
	data := t.TempDir()
	s, err := New(t.Context(), Options{Data: data, Limits: limits})
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	t.Cleanup(func() { stop(); <-done; _ = s.Close() })
	b := &bench{t, "http://" + l.Addr().String(), data, "", s}
	b.token = b.newToken("all", []string{"hutbell"}, api.Rights)
	return b
}

func (b *bench) newToken(name string, projects, rights []string) string {
	b.t.Helper()
	secret, err := OpenTokens(b.data).Add(name, projects, rights, time.Now())
	if err != nil {
		b.t.Fatal(err)
	}
	return secret
}

// do makes a request and gives its status, head and body.
func (b *bench) do(method, path, token string, body io.Reader, header ...string) (int, http.Header, string) {
	b.t.Helper()
	req, err := http.NewRequest(method, b.url+path, body)
	if err != nil {
		b.t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(req)
	if err != nil {
		b.t.Fatal(err)
	}
	defer func() { _ = resp.Body.Close() }()
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		b.t.Fatal(err)
	}
	return resp.StatusCode, resp.Header, string(data)
}

func (b *bench) want(status int, method, path, token string, body io.Reader, header ...string) string {
	b.t.Helper()
	got, _, text := b.do(method, path, token, body, header...)
	if got != status {
		b.t.Errorf("%s %s: %d, want %d\n%s", method, path, got, status, text)
	}
	return text
}

// release makes a manifest of files with these contents.
func published(version string, files map[string]string) []byte {
	m := &release.Manifest{Format: release.Format, Project: release.Project{Name: "hutbell"}, Version: version,
		Commit: release.Commit{ID: strings.Repeat("ab", 20), Time: time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)}}
	for name, content := range files {
		a, c := sha256.Sum256([]byte(content)), sha512.Sum512([]byte(content))
		m.Files = append(m.Files, release.Artifact{Name: name, Kind: "bundle", Platform: "linux/amd64",
			MediaType: "application/gzip", Size: int64(len(content)),
			SHA256: hex.EncodeToString(a[:]), SHA512: hex.EncodeToString(c[:])})
	}
	data, err := m.Encode()
	if err != nil {
		panic(err)
	}
	return data
}

// open opens the draft of a manifest and gives its path.
func (b *bench) open(m []byte) string {
	b.t.Helper()
	text := b.want(201, "POST", "/api/hutbell/drafts", b.token, bytes.NewReader(m))
	var d api.Draft
	if err := json.Unmarshal([]byte(text), &d); err != nil {
		b.t.Fatal(err)
	}
	return "/api/hutbell/drafts/" + d.ID
}

func (b *bench) publishAll(version string, files map[string]string) {
	b.t.Helper()
	draft := b.open(published(version, files))
	for name, content := range files {
		b.want(201, "PUT", draft+"/"+name, b.token, strings.NewReader(content))
	}
	b.want(200, "POST", draft+"/publish", b.token, nil)
}

func TestWholeWay(t *testing.T) {
	b := newBench(t, nil)
	files := map[string]string{"a.tar.gz": strings.Repeat("bell", 1000), "b.tar.gz": "small", "empty.txt": ""}
	draft := b.open(published("1.4.0", files))
	if again := b.open(published("1.4.0", files)); again != draft {
		t.Errorf("the same manifest gave another draft: %s and %s", draft, again)
	}
	text := b.want(409, "POST", draft+"/publish", b.token, nil)
	if !strings.Contains(text, `"missing":["a.tar.gz","b.tar.gz","empty.txt"]`) {
		t.Errorf("publishing an empty draft: %s", text)
	}
	// Nothing of a draft can be seen.
	for _, path := range []string{"/hutbell/", "/hutbell/1.4.0/", "/hutbell/1.4.0/b.tar.gz",
		"/hutbell/1.4.0/manifest.json", "/hutbell/feed.atom", "/hutbell/.drafts/"} {
		b.want(404, "GET", path, "", nil)
	}
	b.want(401, "GET", draft, "", nil)

	// The first half, then the rest from where the server is.
	content := files["a.tar.gz"]
	b.want(202, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader(content[:1000]), "Content-Range",
		"bytes 0-999/4000")
	if text := b.want(409, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader(content[2000:]),
		"Content-Range", "bytes 2000-3999/4000"); !strings.Contains(text, `"received":1000`) {
		t.Errorf("a hole in a file: %s", text)
	}
	b.want(201, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader(content[1000:]), "Content-Range",
		"bytes 1000-3999/4000")
	for _, name := range []string{"b.tar.gz", "empty.txt", "b.tar.gz"} {
		b.want(201, "PUT", draft+"/"+name, b.token, strings.NewReader(files[name]))
	}
	b.want(200, "POST", draft+"/publish", b.token, nil)
	b.want(200, "POST", draft+"/publish", b.token, nil) // again is fine
	// Another publisher of the same manifest, who came too late, is told that all is done.
	b.want(201, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader(content))
	if text := b.want(200, "GET", draft, b.token, nil); !strings.Contains(text, `"state":"public"`) {
		t.Errorf("the state of what has become public: %s", text)
	}
	if text := b.want(201, "POST", "/api/hutbell/drafts", b.token,
		bytes.NewReader(published("1.4.0", files))); !strings.Contains(text, `"state":"public"`) {
		t.Errorf("the draft of a public release: %s", text)
	}
	other := map[string]string{"a.tar.gz": "other", "c.tar.gz": "new"}
	text = b.want(409, "POST", "/api/hutbell/drafts", b.token, bytes.NewReader(published("1.4.0", other)))
	for _, difference := range []string{"a.tar.gz differs", "c.tar.gz is new", "b.tar.gz is gone"} {
		if !strings.Contains(text, difference) {
			t.Errorf("%q is not in %s", difference, text)
		}
	}
}

func TestReading(t *testing.T) {
	b := newBench(t, nil)
	files := map[string]string{"a.tar.gz": "0123456789"}
	b.publishAll("1.4.0", files)
	b.publishAll("1.5.0-rc.1", map[string]string{"rc.tar.gz": "rc"})
	status, head, body := b.do("GET", "/hutbell/1.4.0/a.tar.gz", "", nil)
	sum := sha256.Sum256([]byte(files["a.tar.gz"]))
	if status != 200 || body != files["a.tar.gz"] || head.Get("ETag") != `"`+hex.EncodeToString(sum[:])+`"` ||
		head.Get("Repr-Digest") != httpx.ReprDigest(hex.EncodeToString(sum[:])) ||
		head.Get("Content-Type") != "application/gzip" || head.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("%d %v %s", status, head, body)
	}
	if status, _, body := b.do("GET", "/hutbell/1.4.0/a.tar.gz", "", nil, "Range",
		"bytes=3-5"); status != 206 || body != "345" {
		t.Errorf("a range: %d %q", status, body)
	}
	b.want(304, "GET", "/hutbell/1.4.0/a.tar.gz", "", nil, "If-None-Match", head.Get("ETag"))
	b.want(416, "GET", "/hutbell/1.4.0/a.tar.gz", "", nil, "Range", "bytes=99-")
	if status, head, _ := b.do("GET", "/hutbell/latest/a.tar.gz", "", nil); status != 302 ||
		head.Get("Location") != "/hutbell/1.4.0/a.tar.gz" {
		t.Errorf("latest: %d %s", status, head.Get("Location"))
	}
	if text := b.want(200, "GET", "/hutbell/", "", nil); !strings.Contains(text, "<h1>1.4.0") ||
		!strings.Contains(text, "1.5.0-rc.1") {
		t.Error("the project's page does not show the latest release and the list")
	}
	if text := b.want(200, "GET", "/hutbell/1.5.0-rc.1/", "", nil); !strings.Contains(text, "rc.tar.gz") {
		t.Error("the page of the release candidate")
	}
	if text := b.want(200, "GET", "/", "", nil); !strings.Contains(text, `href="hutbell/"`) {
		t.Error("the list of projects")
	}
	if text := b.want(200, "GET", "/hutbell/feed.atom", "", nil); !strings.Contains(text,
		b.url+"/hutbell/1.4.0/a.tar.gz") {
		t.Errorf("the feed: %s", text)
	}
	if text := b.want(200, "GET", "/hutbell/1.4.0/SHA256SUMS", "", nil); !strings.Contains(text, "  a.tar.gz\n") {
		t.Errorf("the checksums: %s", text)
	}
	_, head, _ = b.do("GET", "/hutbell/", "", nil)
	if !strings.HasPrefix(head.Get("Content-Security-Policy"), "default-src 'none'") {
		t.Error("the page allows more than it needs")
	}
	b.want(304, "GET", "/hutbell/", "", nil, "If-None-Match", head.Get("ETag"))
	b.want(405, "DELETE", "/hutbell/1.4.0/", b.token, nil)
}

// Whatever path tricks a client tries, nothing outside of a release is read or written.
func TestPathTricks(t *testing.T) {
	b := newBench(t, nil)
	b.publishAll("1.4.0", map[string]string{"a.tar.gz": "0123456789"})
	before := snapshot(t, b.data)
	for _, path := range []string{
		"/..%2f..%2ftokens.json", "/hutbell/..%2ftokens.json", "/hutbell/%2e%2e/tokens.json",
		"/hutbell/1.4.0/..%2f..%2f..%2ftokens.json",
		"/hutbell/1.4.0/%2e%2e%2frelease.json", "/hutbell/1.4.0/release.json", "/hutbell/.drafts",
		"/hutbell/.drafts/", "/hutbell/1.4.0/.part-x", "/hutbell/1.4.0/a.tar.gz/..",
		"/hutbell/1.4.0/a.tar.gz%00", "/hutbell/1.4.0//etc/passwd", "/%2e%2e/", "/tokens.json", "/api",
		"/hutbell\\1.4.0/",
	} {
		status, _, body := b.do("GET", path, "", nil)
		if status < 300 && !strings.Contains(body, "<!doctype html>") || strings.Contains(body, "sha256\":") {
			t.Errorf("GET %s: %d %.80s", path, status, body)
		}
	}
	draft := b.open(published("1.4.1", map[string]string{"a.tar.gz": "x"}))
	for _, name := range []string{"..%2fx", "%2e%2e", "manifest.json", "release.json", "SHA256SUMS",
		".part-a.tar.gz", "b.tar.gz", "a.tar.gz%2fx", "publish"} {
		status, _, _ := b.do("PUT", draft+"/"+name, b.token, strings.NewReader("x"))
		if status < 300 {
			t.Errorf("PUT %s was accepted", name)
		}
	}
	for _, id := range []string{"..", "%2e%2e", "..%2f1.4.0", strings.Repeat("0", 32), "1.4.0",
		strings.Repeat("g", 32)} {
		status, _, _ := b.do("GET", "/api/hutbell/drafts/"+id, b.token, nil)
		if status < 300 {
			t.Errorf("the draft %q was found", id)
		}
	}
	for _, project := range []string{"..", "%2e%2e%2fx", "HUTBELL", "api", "hutbell%2f..", "a%00"} {
		if status, _, _ := b.do("POST", "/api/"+project+"/drafts", b.token,
			bytes.NewReader(published("2.0.0", map[string]string{"a": "x"}))); status < 400 && status != 301 &&
			status != 307 {
			t.Errorf("a draft of the project %q: %d", project, status)
		}
	}
	for name, change := range map[string]func(*release.Manifest){
		"a file that leaves":     func(m *release.Manifest) { m.Files[0].Name = "../../tokens.json" },
		"a version that leaves":  func(m *release.Manifest) { m.Version = "../1.4.0" },
		"another project":        func(m *release.Manifest) { m.Project.Name = "other" },
		"a project that leaves":  func(m *release.Manifest) { m.Project.Name = "../other" },
		"the release's own name": func(m *release.Manifest) { m.Files[0].Name = "index.html" },
	} {
		var m release.Manifest
		if err := json.Unmarshal(published("3.0.0", map[string]string{"a": "x"}), &m); err != nil {
			t.Fatal(err)
		}
		change(&m)
		data, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		if status, _, text := b.do("POST", "/api/hutbell/drafts", b.token, bytes.NewReader(data)); status != 400 {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	b.want(204, "DELETE", draft, b.token, nil)
	if after := snapshot(t, b.data); after != before {
		t.Errorf("the data folder changed:\n%s\nbefore:\n%s", after, before)
	}
}

// snapshot lists every file of a folder with its size.
func snapshot(t *testing.T, dir string) string {
	t.Helper()
	var out strings.Builder
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		fmt.Fprintf(&out, "%s %d\n", path, info.Size())
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestTokens(t *testing.T) {
	b := newBench(t, nil)
	m := published("1.4.0", map[string]string{"a.tar.gz": "x"})
	open := func(token string) int {
		status, _, text := b.do("POST", "/api/hutbell/drafts", token, bytes.NewReader(m))
		if token != "" && strings.Contains(text, token) {
			t.Errorf("the token is in the answer: %s", text)
		}
		return status
	}
	if got := open(""); got != 401 {
		t.Errorf("without a token: %d", got)
	}
	if got := open("pdm_wrong"); got != 401 {
		t.Errorf("with a wrong one: %d", got)
	}
	if got := open(b.newToken("foreign", []string{"other"}, api.Rights)); got != 403 {
		t.Errorf("with one of another project: %d", got)
	}
	uploader := b.newToken("uploader", []string{"*"}, []string{api.RightUpload})
	if got := open(uploader); got != 201 {
		t.Errorf("with one that may upload: %d", got)
	}
	draft := b.open(m)
	b.want(201, "PUT", draft+"/a.tar.gz", uploader, strings.NewReader("x"))
	b.want(403, "POST", draft+"/publish", uploader, nil)
	if text := b.want(200, "GET", "/api/hutbell", uploader, nil); !strings.Contains(text, `"rights":["upload"]`) {
		t.Errorf("its rights: %s", text)
	}
	if err := OpenTokens(b.data).Remove("uploader"); err != nil {
		t.Fatal(err)
	}
	b.want(401, "GET", "/api/hutbell", uploader, nil)
	if data, err := os.ReadFile(filepath.Join(b.data, "tokens.json")); err != nil ||
		strings.Contains(string(data), b.token) {
		t.Errorf("the file holds a secret: %v", err)
	}
	if info, err := os.Stat(filepath.Join(b.data, "tokens.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("tokens.json: %v %v", info.Mode(), err)
	}
}

func TestBodies(t *testing.T) {
	b := newBench(t, nil)
	draft := b.open(published("1.4.0", map[string]string{"a.tar.gz": "0123456789"}))
	b.want(422, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader("9876543210"))
	b.want(422, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader("0123456789"), "Repr-Digest",
		"sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:")
	b.want(413, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader("01234567890"))
	// without a length
	b.want(413, "PUT", draft+"/a.tar.gz", b.token, io.MultiReader(strings.NewReader("0123456789"),
		strings.NewReader("more")))
	for _, r := range []string{"bytes 0-9/11", "bytes 5-3/10", "bytes 0-10/10", "bytes -1-3/10", "lines 0-9/10",
		"bytes 0-99999999999999999999/10"} {
		b.want(400, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader("0123456789"), "Content-Range", r)
	}
	b.want(400, "POST", "/api/hutbell/drafts", b.token, strings.NewReader(`{"format":`))
	b.want(400, "POST", "/api/hutbell/drafts", b.token, io.LimitReader(endless{}, release.MaxSize+10))
	b.want(201, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader("0123456789"))
	b.want(200, "POST", draft+"/publish", b.token, nil)
	if status, _, _ := b.do("GET", "/", "", nil, "X-Long", strings.Repeat("x", 64<<10)); status != 431 {
		t.Errorf("a head of 64 KiB: %d", status)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = ' '
	}
	return len(p), nil
}

// A client that falls silent is let go; what it sent is kept, and others are served.
func TestSlowClients(t *testing.T) {
	b := newBench(t, func(l *Limits) { l.Idle, l.Uploads = 300*time.Millisecond, 2 })
	content := strings.Repeat("0123456789", 1000)
	draft := b.open(published("1.4.0", map[string]string{"a.tar.gz": content, "b.tar.gz": "b"}))
	start := time.Now()
	var conns []net.Conn
	for range 5 {
		c, err := net.Dial("tcp", strings.TrimPrefix(b.url, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		conns = append(conns, c)
		fmt.Fprintf(c, "PUT %s/a.tar.gz HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: "+
			"%d\r\n\r\n%s", draft, b.token, len(content), content[:3000])
	}
	time.Sleep(50 * time.Millisecond)
	for range 20 { // the page is there all the while
		b.want(200, "GET", "/", "", nil)
	}
	for _, c := range conns {
		_ = c.SetReadDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.ReadAll(c); err != nil {
			t.Errorf("a silent client was kept: %v", err)
		}
		_ = c.Close()
	}
	if time.Since(start) > 4*time.Second {
		t.Errorf("silent clients were kept for %s", time.Since(start))
	}
	text := b.want(200, "GET", draft, b.token, nil)
	if !strings.Contains(text, `"received":3000`) {
		t.Errorf("what a broken upload sent is lost: %s", text)
	}
	b.want(201, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader(content[3000:]), "Content-Range",
		fmt.Sprintf("bytes 3000-%d/%d", len(content)-1, len(content)))
	b.want(201, "PUT", draft+"/b.tar.gz", b.token, strings.NewReader("b"))
	b.want(200, "POST", draft+"/publish", b.token, nil)
}

// 64 uploads at once, of all kinds: those that are refused come again, and in
// the end the release is intact.
func TestManyUploads(t *testing.T) {
	b := newBench(t, func(l *Limits) { l.Uploads = 8 })
	files := map[string]string{}
	for i := range 16 {
		files[fmt.Sprintf("f%02d.tar.gz", i)] = strings.Repeat(fmt.Sprintf("%d bell ", i), 20000)
	}
	draft := b.open(published("1.4.0", files))
	var group sync.WaitGroup
	for i := range 64 {
		name := fmt.Sprintf("f%02d.tar.gz", i%16)
		group.Go(func() {
			for range 400 {
				status, head, text := b.do("PUT", draft+"/"+name, b.token, strings.NewReader(files[name]))
				if status == 201 {
					return
				}
				if head.Get("Retry-After") == "" {
					t.Errorf("%d %s", status, text)
					return
				}
				time.Sleep(10 * time.Millisecond)
			}
			t.Error("an upload never came through")
		})
	}
	group.Wait()
	b.want(200, "POST", draft+"/publish", b.token, nil)
	for name, content := range files {
		if got := b.want(200, "GET", "/hutbell/1.4.0/"+name, "", nil); got != content {
			t.Errorf("%s is not intact", name)
		}
	}
}

// A server that was killed between the last byte and the name of a file takes
// the file again.
func TestKilledBeforeTheName(t *testing.T) {
	b := newBench(t, nil)
	draft := b.open(published("1.4.0", map[string]string{"a.tar.gz": "0123456789"}))
	part := filepath.Join(b.data, "projects", "hutbell", ".drafts", filepath.Base(draft), ".part-a.tar.gz")
	if err := os.WriteFile(part, []byte("0123456789"), 0o644); err != nil {
		t.Fatal(err)
	}
	if text := b.want(200, "GET", draft, b.token, nil); !strings.Contains(text, `"received":10,"complete":false`) {
		t.Errorf("the state: %s", text)
	}
	b.want(201, "PUT", draft+"/a.tar.gz", b.token, strings.NewReader("0123456789"))
	b.want(200, "POST", draft+"/publish", b.token, nil)
}

func TestOldDraftsGo(t *testing.T) {
	b := newBench(t, nil)
	old := b.open(published("1.4.0", map[string]string{"a.tar.gz": "old"}))
	young := b.open(published("1.5.0", map[string]string{"a.tar.gz": "young"}))
	dir := filepath.Join(b.data, "projects", "hutbell", ".drafts", filepath.Base(old))
	long := time.Now().Add(-8 * 24 * time.Hour)
	for _, p := range []string{filepath.Join(dir, release.Name), dir} {
		if err := os.Chtimes(p, long, long); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.server.tidy(t.Context()); err != nil {
		t.Fatal(err)
	}
	b.want(404, "GET", old, b.token, nil)
	b.want(200, "GET", young, b.token, nil)
}

// A damaged release does not take the others with it unnoticed: the server says
// that it failed, and its log says why.
func TestDamagedRelease(t *testing.T) {
	var log []string
	s, err := New(t.Context(), Options{Data: t.TempDir(), Limits: DefaultLimits,
		Log: func(line string) { log = append(log, line) }})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	dir := filepath.Join(s.data, "projects", "hutbell", "1.0.0")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, release.RecordName), []byte("{"), 0o644); err != nil {
		t.Fatal(err)
	}
	w := httptest.NewRecorder()
	s.Handler().ServeHTTP(w, httptest.NewRequest("GET", "/hutbell/", nil))
	if w.Code != 500 || strings.Contains(w.Body.String(), s.data) || len(log) != 1 ||
		!strings.Contains(log[0], "damaged") {
		t.Errorf("%d %s %v", w.Code, w.Body, log)
	}
}
