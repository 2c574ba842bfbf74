package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

func TestCombineCRC32(t *testing.T) {
	for _, n := range []int{0, 1, 7, 4096, 1 << 20} {
		a, b := []byte(noise(12345)), []byte(noise(n))
		want := crc32.ChecksumIEEE(append(bytes.Clone(a), b...))
		if got := combineCRC32(crc32.ChecksumIEEE(a), crc32.ChecksumIEEE(b), int64(n)); got != want {
			t.Errorf("%d bytes: %08x, want %08x", n, got, want)
		}
	}
}

// A file's compressed bytes are the same whether they are made in place or
// taken from where they are kept, and ordinary readers read both.
func TestSplice(t *testing.T) {
	dir := t.TempDir()
	entries := func(kept bool, algorithm string) []Entry {
		out := sample()
		for i, size := range []int{aloneSize - 1, aloneSize, 3*deflatePart + 17} {
			e := file("big/"+string(rune('a'+i)), noise(size), 0)
			e.SHA256 = strings.Repeat("0", 64)
			if kept && Alone(e.Size) {
				path := filepath.Join(dir, string(rune('a'+i)))
				f, err := os.Create(path)
				if err != nil {
					t.Fatal(err)
				}
				d, err := Compress(t.Context(), f, strings.NewReader(noise(size)), algorithm, Options{Jobs: 3})
				if err != nil {
					t.Fatal(err)
				}
				if err := f.Close(); err != nil {
					t.Fatal(err)
				}
				d.Path = path
				e.Compressed = func(_ context.Context, asked string) (*Compressed, error) {
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
	for format, algorithm := range map[string]string{"tar.gz": Deflate, "zip": Deflate, "tar.zst": Zstd} {
		var made, taken bytes.Buffer
		for kept, buf := range map[bool]*bytes.Buffer{false: &made, true: &taken} {
			if _, err := Write(t.Context(), buf, format, entries(kept, algorithm), Options{Time: when, Jobs: 2}); err != nil {
				t.Fatal(err)
			}
		}
		if !bytes.Equal(made.Bytes(), taken.Bytes()) {
			t.Errorf("%s: the bytes differ, %d and %d", format, made.Len(), taken.Len())
		}
		path := filepath.Join(dir, "archive."+format)
		if err := os.WriteFile(path, taken.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		words := []string{"bsdtar", "-tvf", path}
		if format == "zip" {
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

// More effort makes files that are no larger, and all are read the same.
func TestEfforts(t *testing.T) {
	content := noise(3 * deflatePart)
	for _, format := range []string{"tar.gz", "tar.zst", "zip"} {
		var sizes []int
		for _, effort := range []string{Fast, Normal, Small} {
			var buf bytes.Buffer
			if _, err := Write(t.Context(), &buf, format, []Entry{file("a", content, 0)}, Options{Time: when, Jobs: 2, Effort: effort}); err != nil {
				t.Fatal(err)
			}
			sizes = append(sizes, buf.Len())
			path := filepath.Join(t.TempDir(), "archive")
			if err := os.WriteFile(path, buf.Bytes(), 0o644); err != nil {
				t.Fatal(err)
			}
			if _, items, err := List(path); err != nil || len(items) != 1 || items[0].Size != int64(len(content)) {
				t.Errorf("%s with %s effort: %v, %v", format, effort, items, err)
			}
		}
		if sizes[0] < sizes[2] {
			t.Errorf("%s: %v bytes with growing effort", format, sizes)
		}
	}
}
