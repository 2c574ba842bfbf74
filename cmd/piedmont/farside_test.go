package main

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// A far side that fails in every way it can: the right exit status, one clear
// message, no secret, and nothing public.
func TestFarSideFails(t *testing.T) {
	status := func(code int, header ...string) func(http.ResponseWriter, *http.Request, http.Handler) bool {
		return func(w http.ResponseWriter, r *http.Request, _ http.Handler) bool {
			if r.Method != http.MethodPut {
				return false
			}
			for i := 0; i < len(header); i += 2 {
				w.Header().Set(header[i], header[i+1])
			}
			w.WriteHeader(code)
			return true
		}
	}
	cases := []struct {
		name  string
		spoil func(http.ResponseWriter, *http.Request, http.Handler) bool
		env   func(p releasePage) []string
		code  int
		tells []string
	}{
		{"down", nil, func(releasePage) []string { return []string{"CHIME_PAGE=http://127.0.0.1:9"} }, 1,
			[]string{"nothing answers at 127.0.0.1:9"}},
		{"wrong token", nil, func(releasePage) []string { return []string{"CHIME_TOKEN=pdm_wrong-and-secret"} },
			1, []string{"does not accept the token of env:CHIME_TOKEN"}},
		{"no token", nil, func(releasePage) []string { return []string{"CHIME_TOKEN="} }, 1,
			[]string{"CHIME_TOKEN, which holds the token, is not set", "export CHIME_TOKEN="}},
		{"token without the right", nil,
			func(p releasePage) []string { return []string{"CHIME_TOKEN=" + p.newToken(t, "weak", "upload")} }, 1,
			[]string{`the token "weak" lacks the right "publish"`}},
		{"token of another project", nil, func(p releasePage) []string {
			secret, err := p.tokens.Add("other", []string{"gong"}, []string{"upload", "publish"}, time.Now())
			if err != nil {
				t.Fatal(err)
			}
			return []string{"CHIME_TOKEN=" + secret}
		}, 1, []string{`the right "upload" for the project "chime"`}},
		{"500", status(500), nil, 5, []string{"500 Internal Server Error", "tried 6 times", "0 of 4 files",
			"run the same command again"}},
		{"not a release page", func(w http.ResponseWriter, _ *http.Request, _ http.Handler) bool {
			_, _ = io.WriteString(w, "<html>hello")
			return true
		}, nil, 1, []string{"does not answer as a release page"}},
		{"sends elsewhere", func(w http.ResponseWriter, r *http.Request, _ http.Handler) bool {
			http.Redirect(w, r, "http://127.0.0.1:9/", http.StatusTemporaryRedirect)
			return true
		}, nil, 1, []string{"sends on to another address", "A token is sent to no other place"}},
		{"another digest", func(w http.ResponseWriter, r *http.Request, _ http.Handler) bool {
			if r.Method != http.MethodPut {
				return false
			}
			_, _ = io.Copy(io.Discard, r.Body)
			w.Header().Set("Repr-Digest", "sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:")
			w.WriteHeader(http.StatusCreated)
			return true
		}, nil, 1, []string{"reports the SHA-256 e3b0c442", "Nothing was made public"}},
		{"closes mid-body, always", func(w http.ResponseWriter, r *http.Request, _ http.Handler) bool {
			if r.Method != http.MethodPut {
				return false
			}
			_, _ = io.CopyN(io.Discard, r.Body, 100)
			hangUp(w)
			return true
		}, nil, 5, []string{"the connection to 127.0.0.1", "broke", "run the same command again"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := servePage(t, c.spoil)
			dir := project(t, small())
			run := call{dir, p.env()}
			run.ok(t, "make")
			if c.env != nil {
				run.env = append(run.env, c.env(p)...)
			}
			r := run.run(t, "publish", "--to", "page")
			if r.code != c.code {
				t.Errorf("exit %d, want %d", r.code, c.code)
			}
			contains(t, r.err, c.tells...)
			for _, kv := range run.env {
				if name, secret, _ := strings.Cut(kv, "="); name == "CHIME_TOKEN" && secret != "" &&
					strings.Contains(r.err+r.out, secret) {
					t.Errorf("the secret is shown:\n%s", r.err)
				}
			}
			if public, err := os.ReadDir(filepath.Join(p.data, "projects", "chime", "1.0.0")); err == nil {
				t.Errorf("something is public: %v", public)
			}
		})
	}
}

func hangUp(w http.ResponseWriter) {
	c, _, err := w.(http.Hijacker).Hijack()
	if err == nil {
		_ = c.Close()
	}
}

// What passes is waited for: 429 with Retry-After, a 500 now and then, and
// connections that break in the middle of a file, where it is gone on.
func TestFarSideRecovers(t *testing.T) {
	var puts, broken atomic.Int64
	var resumed atomic.Bool
	var mu sync.Mutex
	limited := map[string]time.Time{}
	p := servePage(t, func(w http.ResponseWriter, r *http.Request, h http.Handler) bool {
		if r.Method != http.MethodPut {
			return false
		}
		if r.Header.Get("Content-Range") != "" {
			resumed.Store(true)
		}
		mu.Lock()
		first, seen := limited[r.URL.Path]
		if !seen {
			limited[r.URL.Path] = time.Now()
		}
		mu.Unlock()
		if !seen {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
			return true
		}
		if time.Since(first) < time.Second {
			t.Errorf("%s came again after %s, before the second that was asked for", r.URL.Path, time.Since(first))
		}
		switch n := puts.Add(1); {
		case n%4 == 1:
			w.WriteHeader(http.StatusInternalServerError)
			return true
		case n%4 == 2 && r.ContentLength > 1<<20:
			broken.Add(1)
			half := io.LimitReader(r.Body, r.ContentLength/2)
			cut := r.Clone(r.Context())
			cut.Body = io.NopCloser(io.MultiReader(half, failing{}))
			h.ServeHTTP(httptest.NewRecorder(), cut)
			hangUp(w)
			return true
		}
		return false
	})
	dir := project(t, bulky())
	c := call{dir, p.env()}
	c.ok(t, "make")
	c.ok(t, "publish", "--to", "page", "--jobs", "2")
	c.ok(t, "verify", p.url+"/chime/1.0.0/")
	if broken.Load() == 0 || !resumed.Load() {
		t.Errorf("%d uploads were broken off, resumed: %v", broken.Load(), resumed.Load())
	}
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// A folder whose release was spoilt, and a release page that serves other
// bytes, are found out.
func TestVerifyFindsOut(t *testing.T) {
	p := servePage(t, func(w http.ResponseWriter, r *http.Request, _ http.Handler) bool {
		if strings.HasSuffix(r.URL.Path, "source.zip") && r.Method == http.MethodGet {
			_, _ = io.WriteString(w, "not the zip")
			return true
		}
		return false
	})
	dir := project(t, small())
	c := call{dir, p.env()}
	c.ok(t, "ship")
	r := c.run(t, "verify", p.url+"/chime/1.0.0/manifest.json")
	if r.code != 6 {
		t.Errorf("exit %d, want 6\n%s", r.code, r.err)
	}
	contains(t, r.out, "differs", "it has 11 bytes, the manifest says")

	share := filepath.Join(filepath.Dir(dir), "share", "1.0.0")
	write(t, share, map[string]string{"surplus.txt": "x", "chime-1.0.0-source.tar.gz": "y"})
	if err := os.Remove(filepath.Join(share, "chime-1.0.0-source.zip")); err != nil {
		t.Fatal(err)
	}
	r = c.run(t, "verify", share, "--json")
	if r.code != 6 {
		t.Errorf("exit %d, want 6", r.code)
	}
	var report struct {
		OK    bool
		Files []struct{ Name, State string }
	}
	if err := json.Unmarshal([]byte(r.out), &report); err != nil {
		t.Fatal(err)
	}
	states := map[string]string{}
	for _, f := range report.Files {
		states[f.Name] = f.State
	}
	if report.OK || states["surplus.txt"] != "surplus" || states["chime-1.0.0-source.tar.gz"] != "differs" ||
		states["chime-1.0.0-source.zip"] != "missing" || states["SHA256SUMS"] != "ok" {
		t.Errorf("found %v", states)
	}
}
