package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/flate"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"piedmont/internal/release"
)

var when = time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)

func file(path, content string, mode uint32) Entry {
	return Entry{Path: path, Mode: 0o644 | os.FileMode(mode), Size: int64(len(content)), Source: Source{Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(content)), nil
	}}}
}

func sample() []Entry {
	return []Entry{
		file("man/hutbell.1", strings.Repeat("bulletin ", 200), 0),
		file("hutbell", "\x7fELF pretended", 0o111),
		{Path: "link", Link: "man/hutbell.1", Mode: 0o777},
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
	for format, want := range golden {
		var buf bytes.Buffer
		holds, err := Write(t.Context(), &buf, format, sample(), Options{Time: when, Jobs: 2})
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(buf.Bytes())
		if got := hex.EncodeToString(sum[:8]); got != want {
			t.Errorf("%s: the digest begins %s, want %s", format, got, want)
		}
		if len(holds) != 4 || holds[1] != (release.Entry{Path: "hutbell", Mode: "0755", Size: 14, SHA256: holds[1].SHA256}) || len(holds[1].SHA256) != 64 || holds[2].Link != "man/hutbell.1" {
			t.Errorf("%s holds %+v", format, holds)
		}
	}
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

// Neither the number of jobs nor what an encoder did before leaves a trace, and
// what goes in comes out, also across the borders of the parts.
func TestParts(t *testing.T) {
	type codec struct {
		part  int
		begin func(io.Writer, Options) (io.WriteCloser, error)
		plain func(io.Reader) (io.Reader, error)
	}
	for name, c := range map[string]codec{
		"deflate": {deflatePart, func(w io.Writer, o Options) (io.WriteCloser, error) { return newDeflater(w, o), nil },
			func(r io.Reader) (io.Reader, error) { return flate.NewReader(r), nil }},
		"zstd": {zstdPart, func(w io.Writer, o Options) (io.WriteCloser, error) { return NewStream(w, "zst", o) },
			func(r io.Reader) (io.Reader, error) { return zstd.NewReader(r) }},
	} {
		for _, size := range []int{0, 1, deflateWindow, c.part - 1, c.part, c.part + 1, 5*c.part + 12345} {
			content := noise(size)
			var one, many bytes.Buffer
			for jobs, buf := range map[int]*bytes.Buffer{1: &one, 7: &many} {
				w, err := c.begin(buf, Options{Jobs: jobs})
				if err != nil {
					t.Fatal(err)
				}
				for rest := content; len(rest) > 0; {
					n := min(len(rest), 77777*jobs)
					if _, err := io.WriteString(w, rest[:n]); err != nil {
						t.Fatal(err)
					}
					rest = rest[n:]
				}
				if err := w.Close(); err != nil {
					t.Fatal(err)
				}
			}
			if !bytes.Equal(one.Bytes(), many.Bytes()) {
				t.Errorf("%s, %d bytes: the jobs leave a trace", name, size)
			}
			r, err := c.plain(&one)
			if err != nil {
				t.Fatal(err)
			}
			back, err := io.ReadAll(r)
			if err != nil || string(back) != content {
				t.Errorf("%s, %d bytes: %d came back, %v", name, size, len(back), err)
			}
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
	for _, format := range []string{"tar.gz", "tar.xz", "tar.zst", "zip"} {
		for _, room := range []int{0, 5, 100, 1 << 20} {
			_, err := Write(t.Context(), &failingWriter{room}, format, []Entry{file("a", noise(6<<20), 0)}, Options{Time: when, Jobs: 3})
			if err == nil {
				t.Errorf("%s with room for %d bytes: no error", format, room)
			}
		}
	}
}

func TestRefusedEntries(t *testing.T) {
	short := file("a", "abc", 0)
	short.Size = 5
	long := file("a", "abc", 0)
	long.Size = 2
	for name, entries := range map[string][]Entry{
		"leaves":           {file("../a", "", 0)},
		"absolute":         {file("/a", "", 0)},
		"twice":            {file("a", "", 0), file("a", "", 0)},
		"file and folder":  {file("a", "", 0), file("a/b", "", 0)},
		"became shorter":   {short},
		"became longer":    {long},
		"nothing for name": {file("", "", 0)},
	} {
		if _, err := Write(t.Context(), io.Discard, "tar.gz", entries, Options{Time: when, Jobs: 1}); err == nil {
			t.Errorf("%s: it was packed", name)
		}
	}
}

func TestListReadsEveryFormat(t *testing.T) {
	for _, format := range []string{"tar.gz", "tar.xz", "tar.zst", "zip"} {
		path := filepath.Join(t.TempDir(), "archive")
		var buf bytes.Buffer
		if _, err := Write(t.Context(), &buf, format, sample(), Options{Time: when, Jobs: 1}); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, buf.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		got, items, err := List(path)
		if err != nil || got != format || len(items) != 5 {
			t.Fatalf("%s: %v, format %s, %d entries", format, err, got, len(items))
		}
		for i, want := range []string{"empty file 0644", "hutbell file 0755", "link link 0777", "man/ folder 0755", "man/hutbell.1 file 0644"} {
			if have := items[i].Path + " " + items[i].Type + " " + items[i].Mode; have != want {
				t.Errorf("%s: %q, want %q", format, have, want)
			}
			if !items[i].Time.Equal(when) {
				t.Errorf("%s: %s has the time %s", format, items[i].Path, items[i].Time)
			}
		}
		if items[2].Link != "man/hutbell.1" {
			t.Errorf("%s: the link leads to %q", format, items[2].Link)
		}
		for cut := range 20 {
			if err := os.WriteFile(path, buf.Bytes()[:buf.Len()*cut/20], 0o644); err != nil {
				t.Fatal(err)
			}
			if _, items, err := List(path); err == nil && len(items) > 4 {
				t.Errorf("%s cut at %d of 20 was read as whole", format, cut)
			}
		}
	}
}

func FuzzList(f *testing.F) {
	for _, format := range []string{"tar.gz", "tar.xz", "tar.zst", "zip"} {
		var buf bytes.Buffer
		if _, err := Write(f.Context(), &buf, format, sample(), Options{Time: when, Jobs: 1}); err != nil {
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
		_, _, _ = List(path) // whatever comes, it neither crashes nor hangs
	})
}
