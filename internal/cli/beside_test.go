package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"piedmont/internal/project/projecttest"
	"piedmont/internal/serve"
	"piedmont/internal/serve/api"
)

// page serves a release page for one project.
func page(t *testing.T, project string) (address, token string) {
	t.Helper()
	data := t.TempDir()
	s, err := serve.New(t.Context(), serve.Options{Data: data, Limits: serve.DefaultLimits})
	if err != nil {
		t.Fatal(err)
	}
	token, err = serve.OpenTokens(data).Add("test", []string{project}, api.Rights, time.Now())
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
	return "http://" + l.Addr().String(), token
}

// Projects are handled side by side in one process: each call has its own folder,
// environment and screen, and takes nothing from the process.
func TestSideBySide(t *testing.T) {
	t.Setenv("PAGE", "http://127.0.0.1:1") // nobody's
	t.Setenv("TOKEN", "wrong")
	here, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	var group sync.WaitGroup
	for i := range 4 {
		name := fmt.Sprintf("bell%d", i)
		dir := projecttest.New(t, map[string]string{"tone.txt": name, "piedmont.toml": `[project]
name = "` + name + `"
[bundle.tones]
files = ["tone.txt"]
name = "tones"
[source]
[destination.page]
kind = "release-page"
url = "env:PAGE"
token = "env:TOKEN"
[destination.share]
kind = "folder"
path = "../` + name + `-share"
`})
		address, token := page(t, name)
		env := projecttest.Env().With("PAGE="+address, "TOKEN="+token)
		group.Go(func() { shipBeside(t, dir, name, Call{Dir: dir, Env: env}) })
	}
	group.Wait()
	if now, err := os.Getwd(); err != nil || now != here || os.Getenv("PAGE") != "http://127.0.0.1:1" {
		t.Errorf("the process is in %s now, %v", now, err)
	}
}

func shipBeside(t *testing.T, dir, name string, c Call) {
	for _, words := range []string{"plan --json", "make --json", "publish --json", "verify ../" + name +
		"-share/1.0.0"} {
		var out, errs bytes.Buffer
		c.Args, c.Out, c.Err = append([]string{"piedmont"}, strings.Fields(words)...), &out, &errs
		if status := Run(t.Context(), c); status != 0 {
			t.Errorf("%s of %s: %d\n%s", words, name, status, errs.String())
			return
		}
		var said struct {
			Project json.RawMessage `json:"project"`
		}
		if strings.HasSuffix(words, "--json") && (json.Unmarshal(out.Bytes(), &said) != nil ||
			!strings.Contains(string(said.Project), name)) {
			t.Errorf("%s of %s says\n%s", words, name, out.String())
		}
	}
	data, err := os.ReadFile(filepath.Join(dir, "..", name+"-share", "1.0.0", "manifest.json"))
	if err != nil || !strings.Contains(string(data), `"name": "`+name+`"`) {
		t.Errorf("%s: %v", name, err)
	}
}
