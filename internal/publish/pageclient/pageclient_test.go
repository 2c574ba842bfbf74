package pageclient_test

import (
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"piedmont/internal/publish"
	"piedmont/internal/publish/pageclient"
	"piedmont/internal/publish/publishtest"
	"piedmont/internal/serve"
	"piedmont/internal/serve/api"
)

// page is a release page with a token of these rights.
func page(t *testing.T, rights ...string) (address, token string) {
	t.Helper()
	data := t.TempDir()
	s, err := serve.New(t.Context(), serve.Options{Data: data, Limits: serve.DefaultLimits})
	if err != nil {
		t.Fatal(err)
	}
	token, err = serve.OpenTokens(data).Add("test", []string{"hutbell"}, rights, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { _ = server.Close(); _ = s.Close() })
	return "http://" + l.Addr().String(), token
}

func TestDestination(t *testing.T) {
	publishtest.Run(t, func(t *testing.T) publishtest.Place {
		address, token := page(t, api.RightUpload, api.RightPublish)
		open := func() publish.Destination { return pageclient.New(address+"/", token, "env:TOKEN") }
		return publishtest.Place{Destination: open(), Another: open,
			Look: func(t *testing.T, version, name string) (string, bool) {
				resp, err := http.Get(address + "/hutbell/" + version + "/" + name)
				if err != nil {
					t.Fatal(err)
				}
				defer func() { _ = resp.Body.Close() }()
				data, err := io.ReadAll(resp.Body)
				return string(data), err == nil && resp.StatusCode == http.StatusOK
			}}
	})
}

func TestInspect(t *testing.T) {
	address, token := page(t, api.RightUpload)
	got, err := pageclient.New(address, token, "env:TOKEN").Inspect(t.Context(), "hutbell", "1.0.0")
	if err != nil || strings.Join(got.Lacks, " ") != api.RightPublish || got.Public != "" || got.Clock.IsZero() {
		t.Errorf("%+v, %v", got, err)
	}
	for token, want := range map[string]string{"": "wants a token and none is given",
		"pdm_wrong": "does not accept the token of env:TOKEN"} {
		_, err := pageclient.New(address, token, "env:TOKEN").Inspect(t.Context(), "hutbell", "")
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "pdm_wrong") {
			t.Errorf("%q: %v", token, err)
		}
	}
	for what, h := range map[string]http.HandlerFunc{
		"is the address that of a release page?": func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = io.WriteString(w, "<html>")
		},
		"sends on to another address": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/elsewhere", http.StatusFound)
		},
		"it answered 418": func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) },
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		server := &http.Server{Handler: h, ReadHeaderTimeout: time.Minute}
		go func() { _ = server.Serve(l) }()
		_, err = pageclient.New("http://"+l.Addr().String(), "pdm_x", "env:TOKEN").Inspect(t.Context(), "hutbell", "")
		if err == nil || !strings.Contains(strings.ToLower(err.Error()), what) {
			t.Errorf("%s: %v", what, err)
		}
		_ = server.Close()
	}
}
