package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/testclient"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/format/archive/zipfile"
	"piedmont/internal/format/compress"
)

// formats are those under test, readers what reads them.
var (
	formats = []archive.Format{tarball.Format("gz"), tarball.Format("xz"), tarball.Format("zst"), zipfile.Format{}}
	readers = []archive.Reader{zipfile.Format{}, tarball.Reader{}}
)

func options(jobs int) archive.Options {
	return archive.Options{Time: when, Options: compress.Options{Jobs: jobs}}
}

func list(t testing.TB, path string) (string, []archive.Entry, error) {
	t.Helper()
	return archive.Walk(t.Context(), path, readers, nil)
}

func ExampleWrite() {
	var out bytes.Buffer
	held, err := archive.Write(context.Background(), &out, tarball.Format("gz"), []archive.Entry{
		{Path: "bin/hutbell", Mode: 0o755, Content: compress.Text("a program")},
		{Path: "hutbell", Mode: fs.ModeSymlink | 0o777, Link: "bin/hutbell"},
	}, options(2))
	for _, e := range held {
		fmt.Printf("%s %s %s %q\n", archive.Octal(e.Mode), e.Type(), e.Path, e.Link)
	}
	fmt.Println(err)
	// Output:
	// 0755 file bin/hutbell ""
	// 0777 link hutbell "bin/hutbell"
	// <nil>
}

// noise is data that compresses about as well as a program does.
func noise(n int) string {
	r := rand.New(rand.NewSource(1))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Intn(1 << (1 + i/5000%7)))
	}
	return string(b)
}

var when = time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)

func file(path, content string, mode fs.FileMode) archive.Entry {
	return archive.Entry{Path: path, Mode: 0o644 | mode, Content: compress.Text(content)}
}

func sample() []archive.Entry {
	return []archive.Entry{
		file("man/hutbell.1", strings.Repeat("bulletin ", 200), 0),
		file("hutbell", "\x7fELF pretended", 0o111),
		{Path: "link", Link: "man/hutbell.1", Mode: fs.ModeSymlink | 0o777},
		file("empty", "", 0),
	}
}

// The bytes of every format are pinned: a change of them must be meant, and
// changes the version that the outbox's keys carry.
func TestGoldenBytes(t *testing.T) {
	golden := map[string]string{
		"tar.gz":  "427e04d88dac15e8",
		"tar.xz":  "d2efd21d68ab8e71",
		"tar.zst": "81b353b81e0b65ac",
		"zip":     "2a972afbcac46f74",
	}
	for _, format := range formats {
		var buf bytes.Buffer
		held, err := archive.Write(t.Context(), &buf, format, sample(), options(2))
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(buf.Bytes())
		if got := hex.EncodeToString(sum[:8]); got != golden[format.Name()] {
			t.Errorf("%s: the digest begins %s, want %s", format.Name(), got, golden[format.Name()])
		}
		if len(held) != 4 || held[1].Path != "hutbell" || held[1].Size != 14 || len(held[1].SHA256) != 64 ||
			held[2].Link != "man/hutbell.1" {
			t.Errorf("%s holds %+v", format.Name(), held)
		}
	}
}

type failingWriter struct{ left int }

func (f *failingWriter) Write(p []byte) (int, error) {
	if f.left -= len(p); f.left < 0 {
		return 0, errors.New("no space")
	}
	return len(p), nil
}

func TestFailingWriterIsTold(t *testing.T) {
	for _, format := range formats {
		for _, room := range []int{0, 5, 100, 1 << 20} {
			_, err := archive.Write(t.Context(), &failingWriter{room}, format,
				[]archive.Entry{file("a", noise(6<<20), 0)}, options(3))
			if err == nil {
				t.Errorf("%s with room for %d bytes: no error", format.Name(), room)
			}
		}
	}
}

func TestRefusedEntries(t *testing.T) {
	short := file("a", "abc", 0)
	short.Size = 5
	long := file("a", "abc", 0)
	long.Size = 2
	for name, entries := range map[string][]archive.Entry{
		"leaves":           {file("../a", "", 0)},
		"absolute":         {file("/a", "", 0)},
		"twice":            {file("a", "", 0), file("a", "", 0)},
		"file and folder":  {file("a", "", 0), file("a/b", "", 0)},
		"became shorter":   {short},
		"became longer":    {long},
		"nothing for name": {file("", "", 0)},
	} {
		if _, err := archive.Write(t.Context(), io.Discard, formats[0], entries, options(1)); err == nil {
			t.Errorf("%s: it was packed", name)
		}
	}
}

func TestListReadsEveryFormat(t *testing.T) {
	for _, format := range formats {
		path := filepath.Join(t.TempDir(), "archive")
		var buf bytes.Buffer
		if _, err := archive.Write(t.Context(), &buf, format, sample(), options(1)); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, buf.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		got, items, err := list(t, path)
		if err != nil || got != format.Name() || len(items) != 5 {
			t.Fatalf("%s: %v, format %s, %d entries", format.Name(), err, got, len(items))
		}
		for i, want := range []string{"empty file 0644", "hutbell file 0755", "link link 0777",
			"man/ folder 0755", "man/hutbell.1 file 0644"} {
			if have := items[i].Path + " " + items[i].Type() + " " + archive.Octal(items[i].Mode); have != want {
				t.Errorf("%s: %q, want %q", format.Name(), have, want)
			}
			if !items[i].Time.Equal(when) {
				t.Errorf("%s: %s has the time %s", format.Name(), items[i].Path, items[i].Time)
			}
		}
		if items[2].Link != "man/hutbell.1" {
			t.Errorf("%s: the link leads to %q", format.Name(), items[2].Link)
		}
		for cut := range 20 {
			if err := os.WriteFile(path, buf.Bytes()[:buf.Len()*cut/20], 0o644); err != nil {
				t.Fatal(err)
			}
			if _, items, err := list(t, path); err == nil && len(items) > 4 {
				t.Errorf("%s cut at %d of 20 was read as whole", format.Name(), cut)
			}
		}
	}
}

// A file's compressed bytes are the same whether they are made in place or
// taken from where they are cached, and ordinary readers read both.
func TestCachedBytes(t *testing.T) {
	dir := t.TempDir()
	const part = 1 << 20
	entries := func(cached bool, algorithm string) []archive.Entry {
		out := sample()
		for i, size := range []int{64<<10 - 1, 64 << 10, 3*part + 17} {
			e := file("big/"+string(rune('a'+i)), noise(size), 0)
			e.SHA256 = strings.Repeat("0", 64)
			if cached && compress.Standalone(e.Size) {
				path := filepath.Join(dir, string(rune('a'+i)))
				f, err := os.Create(path)
				if err != nil {
					t.Fatal(err)
				}
				d, err := compress.Make(t.Context(), f, strings.NewReader(noise(size)), algorithm,
					compress.Options{Jobs: 3})
				if err != nil {
					t.Fatal(err)
				}
				if err := f.Close(); err != nil {
					t.Fatal(err)
				}
				d.Path = path
				e.Cached = func(_ context.Context, asked string) (*compress.Fragment, error) {
					if asked != algorithm {
						t.Errorf("asked for %s", asked)
					}
					return &d, nil
				}
			}
			out = append(out, e)
		}
		return out
	}
	for _, format := range formats {
		algorithm := map[string]string{"tar.gz": compress.Deflate, "zip": compress.Deflate,
			"tar.zst": compress.Zstd}[format.Name()]
		if algorithm == "" {
			continue
		}
		var made, taken bytes.Buffer
		for cached, buf := range map[bool]*bytes.Buffer{false: &made, true: &taken} {
			if _, err := archive.Write(t.Context(), buf, format, entries(cached, algorithm), options(2)); err != nil {
				t.Fatal(err)
			}
		}
		if !bytes.Equal(made.Bytes(), taken.Bytes()) {
			t.Errorf("%s: the bytes differ, %d and %d", format.Name(), made.Len(), taken.Len())
		}
		path := filepath.Join(dir, "archive."+format.Name())
		if err := os.WriteFile(path, taken.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		words := []string{"bsdtar", "-tvf", path}
		if format.Name() == "zip" {
			words = []string{"unzip", "-tq", path}
			if _, err := zip.NewReader(bytes.NewReader(taken.Bytes()), int64(taken.Len())); err != nil {
				t.Error(err)
			}
		}
		if out, err := exec.Command(testclient.Need(t, words[0]), words[1:]...).CombinedOutput(); err != nil {
			t.Errorf("%v: %v\n%s", words, err, out)
		}
	}
}

// Archives that fail in the middle leave no goroutine behind.
func TestFailuresLeaveNothing(t *testing.T) {
	before := runtime.NumGoroutine()
	changed := file("b", noise(20000), 0)
	changed.Size++
	for _, format := range formats {
		for range 20 {
			if _, err := archive.Write(t.Context(), io.Discard, format, []archive.Entry{file("a", "x", 0),
				changed}, options(3)); err == nil {
				t.Errorf("%s packed a file that changed", format.Name())
			}
		}
	}
	for range 100 {
		if runtime.NumGoroutine() <= before {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("%d goroutines are left of %d", runtime.NumGoroutine(), before)
}

// More effort makes files that are no larger, and all are read the same.
func TestEfforts(t *testing.T) {
	content := noise(3 << 20)
	for _, format := range []archive.Format{formats[0], formats[2], formats[3]} {
		var sizes []int
		for _, effort := range []string{compress.Fast, compress.Normal, compress.Small} {
			var buf bytes.Buffer
			if _, err := archive.Write(t.Context(), &buf, format, []archive.Entry{file("a", content, 0)},
				archive.Options{Time: when, Options: compress.Options{Jobs: 2, Effort: effort}}); err != nil {
				t.Fatal(err)
			}
			sizes = append(sizes, buf.Len())
			path := filepath.Join(t.TempDir(), "archive")
			if err := os.WriteFile(path, buf.Bytes(), 0o644); err != nil {
				t.Fatal(err)
			}
			if _, items, err := list(t, path); err != nil || len(items) != 1 || items[0].Size != int64(len(content)) {
				t.Errorf("%s with %s effort: %v, %v", format.Name(), effort, items, err)
			}
		}
		if sizes[0] < sizes[2] {
			t.Errorf("%s: %v bytes with growing effort", format.Name(), sizes)
		}
	}
}

func FuzzList(f *testing.F) {
	for _, format := range formats {
		var buf bytes.Buffer
		if _, err := archive.Write(f.Context(), &buf, format, sample(), options(1)); err != nil {
			f.Fatal(err)
		}
		f.Add(buf.Bytes())
	}
	var plain bytes.Buffer
	w := tar.NewWriter(&plain)
	_ = w.WriteHeader(&tar.Header{Name: "../../etc/passwd", Size: 0, Typeflag: tar.TypeSymlink, Linkname: "/"})
	_ = w.Close()
	f.Add(plain.Bytes())
	var evil bytes.Buffer
	z := zip.NewWriter(&evil)
	_, _ = z.Create("../x")
	_ = z.Close()
	f.Add(evil.Bytes())
	path := filepath.Join(f.TempDir(), "archive")
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		_, _, _ = list(t, path) // whatever comes, it neither crashes nor hangs
	})
}
