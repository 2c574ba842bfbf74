package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"piedmont/internal/base/testclient"
)

// member is one entry of an archive under test.
type member struct {
	name, content, link string
	kind                byte
}

// archiveOf packs entries as they are said, also hostile ones.
func archiveOf(t testing.TB, members ...member) []byte {
	t.Helper()
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	w := tar.NewWriter(z)
	for _, m := range members {
		kind := m.kind
		if kind == 0 {
			kind = tar.TypeReg
		}
		if err := w.WriteHeader(&tar.Header{Name: m.name, Linkname: m.link, Mode: 0o755,
			Size: int64(len(m.content)), Typeflag: kind}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(m.content)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return buf.Bytes()
}

func sha(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// hill is a toolchain: the system's compiler under another name.
func hill(t testing.TB) []byte {
	t.Helper()
	cc := testclient.Need(t, "gcc")
	return archiveOf(t,
		member{name: "hill-1.0/bin/hill-gcc", content: "#!/bin/sh\nexec " + cc + " -DHILL=7 \"$@\"\n"},
		member{name: "hill-1.0/share/filler", content: strings.Repeat("0123456789abcdef", 40000) +
			fmt.Sprint(os.Getpid())},
		member{name: "hill-1.0/bin/hill-link", link: "hill-gcc", kind: tar.TypeSymlink})
}

// onHill is a project that is compiled by the toolchain.
func onHill(t testing.TB, archives, digest string) string {
	t.Helper()
	return project(t, map[string]string{
		"src/main.c": "#include <stdio.h>\nint main(void) { printf(\"hill %d\\n\", HILL); return 0; }\n",
		"piedmont.toml": `[project]
name = "hill"
[toolchain.hill]
platforms = ["` + here + `"]
triplet = "hill"
archive = [` + archives + `]
sha256 = "` + digest + `"
drop-folders = 1
[program.hill]
language = "c"
source = "src"
platforms = ["` + here + `"]
[bundle.hill]
programs = ["hill"]
[trial.hill]
bundle = "hill"
run = ["hill"]
expect = "hill 7"
required = true
`})
}

func TestToolchainArchives(t *testing.T) {
	data := hill(t)
	good := sha(data)
	file := filepath.Join(t.TempDir(), "hill tools.tar.gz")
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	var gets, cuts atomic.Int32
	serve := func(w http.ResponseWriter, r *http.Request) {
		gets.Add(1)
		from := 0
		if at, ok := strings.CutPrefix(r.Header.Get("Range"), "bytes="); ok {
			from, _ = strconv.Atoi(strings.TrimSuffix(at, "-"))
			w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, len(data)-1, len(data)))
		}
		w.Header().Set("Content-Length", strconv.Itoa(len(data)-from))
		if from > 0 {
			w.WriteHeader(http.StatusPartialContent)
		}
		rest := data[from:]
		switch {
		case strings.HasPrefix(r.URL.Path, "/cut") && cuts.Add(1) <= 3:
			_, _ = w.Write(rest[:len(rest)/2]) // and the connection breaks
		case strings.HasPrefix(r.URL.Path, "/truncated"):
			w.Header().Set("Content-Length", strconv.Itoa(len(rest)/2))
			_, _ = w.Write(rest[:len(rest)/2])
		default:
			_, _ = w.Write(rest)
		}
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasPrefix(r.URL.Path, "/gone"):
			http.NotFound(w, r)
		case strings.HasPrefix(r.URL.Path, "/truncated"):
			w.Header().Set("Content-Length", strconv.Itoa(len(data)/2))
			_, _ = w.Write(data[:len(data)/2])
		default:
			serve(w, r)
		}
	}))
	defer server.Close()
	quote := func(s string) string { return `"` + s + `"` }
	cases := []struct {
		name, archives, digest string
		code                   int
		tells                  []string
	}{
		{"a file", quote("file://" + strings.ReplaceAll(file, " ", "%20")), good, 0, nil},
		{"a path", quote(file), good, 0, nil},
		{"over HTTP", quote(server.URL + "/hill.tar.gz"), good, 0, nil},
		{"broken three times and resumed", quote(server.URL + "/cut/hill.tar.gz"), good, 0, nil},
		{"the second mirror", quote(server.URL+"/gone/hill.tar.gz") + ", " + quote(server.URL+"/hill.tar.gz"),
			good, 0, nil},
		{"wrong digest", quote(server.URL + "/hill.tar.gz"), sha([]byte("other")), 1,
			[]string{"[toolchain.hill]", "its SHA-256 is " + good, "is declared"}},
		{"wrong digest of a file", quote(file), sha([]byte("other")), 1, []string{"its SHA-256 is " + good}},
		{"truncated", quote(server.URL + "/truncated/hill.tar.gz"), good, 1,
			[]string{"its SHA-256 is " + sha(data[:len(data)/2])}},
		{"gone everywhere", quote(server.URL+"/gone/a.tar.gz") + ", " + quote("file:///nowhere/b.tar.gz"), good,
			1, []string{"404", "there is no such file"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			cache := t.TempDir()
			dir := onHill(t, c.archives, c.digest)
			run := call{dir: dir, env: []string{"XDG_CACHE_HOME=" + cache}}
			r := run.run(t, "make")
			if r.code != c.code {
				t.Fatalf("exit %d, want %d\n%s", r.code, c.code, r.err)
			}
			contains(t, r.err, c.tells...)
			kept, _ := filepath.Glob(filepath.Join(cache, "piedmont", "toolchains", "*"))
			for _, k := range kept {
				if info, err := os.Stat(k); err == nil && !strings.HasSuffix(k, ".lock") &&
					(c.code != 0 || !info.IsDir()) {
					t.Errorf("%s was left", k)
				}
			}
			if c.code == 0 {
				run.ok(t, "try")
			}
		})
	}
	if cuts.Load() < 4 {
		t.Errorf("the broken download was asked for %d times", cuts.Load())
	}
}

// What leads out of its folder is refused, and nothing of it is kept.
func TestHostileToolchains(t *testing.T) {
	cc := member{name: "x/bin/hill-gcc", content: "#!/bin/sh\n"}
	outside := filepath.Join(t.TempDir(), "outside")
	cases := map[string][]member{
		"up":       {cc, {name: "x/../../evil", content: "x"}},
		"absolute": {cc, {name: outside, content: "x"}},
		"through a link": {cc, {name: "x/way", link: filepath.Dir(outside), kind: tar.TypeSymlink},
			{name: "x/way/outside", content: "x"}},
		"through a link up": {cc, {name: "x/way", link: "../../..", kind: tar.TypeSymlink},
			{name: "x/way/evil", content: "x"}},
		"hard link out":      {cc, {name: "x/way", link: "../../../etc/passwd", kind: tar.TypeLink}},
		"a device":           {cc, {name: "x/null", kind: tar.TypeChar}},
		"backslashes":        {cc, {name: `x\..\..\evil`, content: "x"}},
		"a file as a folder": {cc, {name: "x/bin", content: "x"}},
		"no archive":         nil,
	}
	for name, members := range cases {
		t.Run(name, func(t *testing.T) {
			data := []byte("this is no archive")
			if members != nil {
				data = archiveOf(t, members...)
			}
			base := t.TempDir()
			file := filepath.Join(base, "a.tar.gz")
			if err := os.WriteFile(file, data, 0o644); err != nil {
				t.Fatal(err)
			}
			cache := filepath.Join(base, "cache")
			dir := onHill(t, `"`+file+`"`, sha(data))
			r := call{dir: dir, env: []string{"XDG_CACHE_HOME=" + cache}}.run(t, "make")
			if r.code != 1 || !strings.Contains(r.err, "[toolchain.hill]") {
				t.Errorf("exit %d\n%s", r.code, r.err)
			}
			if _, err := os.Stat(outside); err == nil {
				t.Error("it wrote outside")
			}
			for path := range tree(t, base) {
				if strings.Contains(path, "evil") || strings.Contains(path, "hill-gcc") {
					t.Errorf("%s was kept", path)
				}
			}
		})
	}
}

// A proxy is used as the usual variables say.
func TestToolchainByProxy(t *testing.T) {
	data := hill(t)
	var asked atomic.Value
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Store(r.URL.String())
		_, _ = w.Write(data)
	}))
	defer proxy.Close()
	dir := onHill(t, `"http://tools.hutbell.example/hill.tar.gz"`, sha(data))
	call{dir: dir, env: []string{"XDG_CACHE_HOME=" + t.TempDir(), "HTTP_PROXY=" + proxy.URL, "http_proxy=" +
		proxy.URL, "NO_PROXY=", "no_proxy="}}.ok(t, "make")
	if got := asked.Load(); got != "http://tools.hutbell.example/hill.tar.gz" {
		t.Errorf("the proxy was asked for %v", got)
	}
}

// Two projects that need the same toolchain at once fetch it once.
func TestToolchainIsShared(t *testing.T) {
	data := hill(t)
	var gets atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		gets.Add(1)
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		_, _ = w.Write(data)
	}))
	defer server.Close()
	cache := t.TempDir()
	var group sync.WaitGroup
	for range 3 {
		dir := onHill(t, `"`+server.URL+`/hill.tar.gz"`, sha(data))
		group.Go(func() {
			r := call{dir: dir, env: []string{"XDG_CACHE_HOME=" + cache}}.run(t, "make")
			if r.code != 0 {
				t.Errorf("exit %d\n%s", r.code, r.err)
			}
		})
	}
	group.Wait()
	if gets.Load() != 1 {
		t.Errorf("it was fetched %d times", gets.Load())
	}
}

// What an interrupted run compiled is not compiled again.
func TestInterruptedCompiling(t *testing.T) {
	dir := t.TempDir()
	log, waits, started := filepath.Join(dir, "log"), filepath.Join(dir, "waits"), filepath.Join(dir, "started")
	data := archiveOf(t, member{name: "hill-1.0/bin/hill-gcc", content: `#!/bin/sh
case "$*" in
*slow.c*) : >` + started + `; while [ -e ` + waits + ` ]; do sleep 0.05; done ;;
*first.c*) echo first >>` + log + ` ;;
esac
exec ` + testclient.Need(t, "gcc") + ` -DHILL=7 "$@"
`})
	write(t, dir, map[string]string{"hill.tar.gz": string(data), "waits": ""})
	root := onHill(t, `"`+filepath.Join(dir, "hill.tar.gz")+`"`, sha(data))
	write(t, root, map[string]string{"src/first.c": "int first(void) { return 1; }\n",
		"src/slow.c": "int slow(void) { return 2; }\n"})
	c := call{dir: root, env: []string{"XDG_CACHE_HOME=" + t.TempDir()}}
	cmd := exec.Command(program, "make", "--jobs", "1")
	cmd.Dir, cmd.Env = root, append(environment(), c.env...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		if _, err := os.Stat(started); err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("the second source was not compiled within a minute")
		}
	}
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("interrupted: %v", err)
	}
	if err := os.Remove(waits); err != nil {
		t.Fatal(err)
	}
	c.ok(t, "make")
	if got, err := os.ReadFile(log); err != nil || string(got) != "first\n" {
		t.Errorf("compiled: %q, %v", got, err)
	}
}
