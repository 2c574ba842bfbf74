package cpio_test

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"piedmont/internal/format/cpio"
)

// filled adds what fills a part up to four bytes.
func filled(parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString(p)
		b.WriteString(strings.Repeat("\x00", -b.Len()&3))
	}
	return b.String()
}

func ExampleReader() {
	archive := filled(
		cpio.Header{Inode: 1, Mode: 0o100644, Links: 1, Size: 4, Name: "./bell"}.String(), "ring",
		cpio.Header{Inode: 2, Mode: 0o120777, Links: 1, Size: 5, Name: "./gong"}.String(), "bell!",
		cpio.Header{Links: 1, Name: cpio.Trailer}.String())
	r := cpio.NewReader(strings.NewReader(archive))
	for {
		f, err := r.Next()
		if err != nil {
			fmt.Println(err)
			return
		}
		text, _ := io.ReadAll(r.Content(f.Size))
		fmt.Println(f.Name, string(text))
	}
	// Output:
	// ./bell ring
	// ./gong bell!
	// EOF
}

func TestDamaged(t *testing.T) {
	good := filled(cpio.Header{Size: 4, Name: "a"}.String(), "ring", cpio.Header{Name: cpio.Trailer}.String())
	read := func(text string) error {
		r := cpio.NewReader(strings.NewReader(text))
		for {
			f, err := r.Next()
			if err != nil {
				return err
			}
			r.Content(f.Size) // left to Next to skip
		}
	}
	if err := read(good); err != io.EOF {
		t.Errorf("a good one: %v", err)
	}
	for n := range len(good) - 1 {
		if err := read(good[:n]); !errors.Is(err, cpio.ErrDamaged) && n < len(good)-4 {
			t.Errorf("cut at %d of %d: %v", n, len(good), err)
		}
	}
	for _, text := range []string{strings.Replace(good, "070701", "070700", 1),
		strings.Replace(good, "00000004", "-0000004", 1)} {
		if err := read(text); !errors.Is(err, cpio.ErrDamaged) {
			t.Errorf("%q: %v", text, err)
		}
	}
	f, err := cpio.NewReader(strings.NewReader(cpio.Numbered(7) + "\x00\x00")).Next()
	if err != nil || f.Number != 7 {
		t.Errorf("by number: %+v, %v", f, err)
	}
}
