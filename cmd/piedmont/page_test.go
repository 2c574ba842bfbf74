package main

import (
	"bufio"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"piedmont/internal/serve"
	"piedmont/internal/serve/api"
)

// releasePage is a release page inside of the test, with a way to spoil its answers.
type releasePage struct {
	url, token, data string
	tokens           *serve.Tokens
}

// servePage starts one; spoil sees every request first and says whether it
// answered it.
func servePage(t testing.TB, spoil func(http.ResponseWriter, *http.Request, http.Handler) bool) releasePage {
	t.Helper()
	data := t.TempDir()
	s, err := serve.New(t.Context(), serve.Options{Data: data, Limits: serve.DefaultLimits})
	if err != nil {
		t.Fatal(err)
	}
	h := s.Handler()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if spoil == nil || !spoil(w, r, h) {
			h.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(func() { server.Close(); _ = s.Close() })
	p := releasePage{url: server.URL, data: data, tokens: serve.OpenTokens(data)}
	p.token = p.newToken(t, "test", api.RightUpload, api.RightPublish)
	return p
}

func (p releasePage) newToken(t testing.TB, name string, rights ...string) string {
	t.Helper()
	secret, err := p.tokens.Add(name, []string{"chime", "hutbell"}, rights, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return secret
}

// env is what the projects of the tests are told about the page.
func (p releasePage) env() []string {
	return []string{"CHIME_PAGE=" + p.url, "CHIME_TOKEN=" + p.token, "HUTBELL_PAGE=" + p.url,
		"HUTBELL_PAGE_TOKEN=" + p.token}
}

func TestServeByItself(t *testing.T) {
	data := filepath.Join(t.TempDir(), "pages")
	token := strings.TrimSpace(call{}.ok(t, "serve", "token", "new", "tester", "--data", data, "--project",
		"chime", "--right", "upload", "--right", "publish").out)
	if r := (call{}).ok(t, "serve", "token", "list", "--data", data); strings.Contains(r.out, token) ||
		!strings.Contains(r.out, "tester") {
		t.Errorf("the list of tokens:\n%s", r.out)
	}
	cmd := exec.Command(program, "serve", "--data", data, "--listen", "127.0.0.1:0")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill() }()
	address, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	address = strings.TrimSpace(address)
	if u, err := url.Parse(address); err != nil || u.Hostname() != "127.0.0.1" {
		t.Fatalf("it says it serves at %q", address)
	}
	if r := (call{}).run(t, "serve", "--data", data, "--listen", "127.0.0.1:0"); r.code != 1 ||
		!strings.Contains(r.err, "another server") {
		t.Errorf("a second server in the same folder: exit %d, %s", r.code, r.err)
	}
	dir := project(t, small())
	c := call{dir, []string{"CHIME_PAGE=" + strings.TrimSuffix(address, "/"), "CHIME_TOKEN=" + token}}
	c.ok(t, "ship", "--to", "page")
	c.ok(t, "verify", address+"chime/1.0.0/")
	c.ok(t, "verify", address+"chime/") // the latest

	call{}.ok(t, "serve", "token", "end", "tester", "--data", data)
	git(t, dir, "tag", "v1.0.1")
	if r := c.run(t, "ship", "--to", "page"); r.code == 0 || strings.Contains(r.err, token) {
		t.Errorf("publishing with an ended token: exit %d\n%s", r.code, r.err)
	}
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("after SIGTERM: %v", err)
	}
}
