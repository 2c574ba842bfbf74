package compress

import (
	"bytes"
	"compress/flate"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand"
	"runtime"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
)

func ExampleStream() {
	var out bytes.Buffer
	s, err := NewStream(&out, "gz", Options{Jobs: 2})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = s.Close() }() // the second call does nothing
	sum, err := s.File(context.Background(), Text("Snow above 2400 m\n"))
	if err == nil {
		err = s.Close()
	}
	plain, name, end, _ := Decompress(&out)
	defer end()
	text, _ := io.ReadAll(plain)
	fmt.Printf("%s %s %v %s", name, sum[:8], err, text)
	// Output: gz 5cb968da <nil> Snow above 2400 m
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

func TestCombineCRC32(t *testing.T) {
	for _, n := range []int{0, 1, 7, 4096, 1 << 20} {
		a, b := []byte(noise(12345)), []byte(noise(n))
		want := crc32.ChecksumIEEE(append(bytes.Clone(a), b...))
		if got := combineCRC32(crc32.ChecksumIEEE(a), crc32.ChecksumIEEE(b), int64(n)); got != want {
			t.Errorf("%d bytes: %08x, want %08x", n, got, want)
		}
	}
}

// What fails in the middle leaves no goroutine behind when it is closed, and
// closing twice neither waits nor writes again.
func TestCloseEndsEverything(t *testing.T) {
	before := runtime.NumGoroutine()
	data := noise(deflatePart + 70000)
	for _, compression := range []string{"gz", "xz", "zst"} {
		for _, room := range []int{0, 100, 1 << 30} {
			for range 5 {
				out := &failingWriter{room}
				s, err := NewStream(out, compression, Options{Jobs: 3})
				if err != nil {
					continue // nothing was begun
				}
				_, _ = io.WriteString(s, data)
				first := s.Close()
				left := out.left
				if again := s.Close(); fmt.Sprint(again) != fmt.Sprint(first) || out.left != left {
					t.Errorf("%s: closed again: %v, then %v, and %d bytes more", compression, first, again,
						left-out.left)
				}
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
