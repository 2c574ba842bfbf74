package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
)

// What was packed comes out again: bytes, modes, times, links.
func TestUnpackWhatWasPacked(t *testing.T) {
	at := time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)
	entries := []archive.Entry{
		{Path: "top/bin/bell", Mode: 0o755, Content: compress.Text("ring")},
		{Path: "top/share/ünder the hill", Mode: 0o644, Content: compress.Text("")},
		{Path: "top/bin/gong", Mode: fs.ModeSymlink | 0o777, Link: "bell"},
	}
	for _, format := range formats {
		for drop, want := range map[int]string{0: "top/bin/bell", 1: "bin/bell"} {
			dir := t.TempDir()
			file, place := filepath.Join(dir, "a"), filepath.Join(dir, "place")
			var buf bytes.Buffer
			if _, err := archive.Write(t.Context(), &buf, format, entries, archive.Options{Time: at}); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, buf.Bytes(), 0o644); err != nil {
				t.Fatal(err)
			}
			if err := os.Mkdir(place, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := (archive.Unpacker{Drop: drop}).Unpack(t.Context(), file, place, readers...); err != nil {
				t.Fatalf("%s: %v", format.Name(), err)
			}
			bell := filepath.Join(place, want)
			data, err := os.ReadFile(bell)
			info, statErr := os.Stat(bell)
			if err != nil || statErr != nil || string(data) != "ring" || info.Mode().Perm() != 0o755 ||
				!info.ModTime().Equal(at) {
				t.Errorf("%s: %q, %v, %v", format.Name(), data, info, err)
			}
			if link, err := os.Readlink(filepath.Join(filepath.Dir(bell), "gong")); err != nil || link != "bell" {
				t.Errorf("%s: the link leads to %q, %v", format.Name(), link, err)
			}
			if err := (archive.Unpacker{Most: 3}).Unpack(t.Context(), file, t.TempDir(), readers...); err == nil {
				t.Errorf("%s: it unpacked more than was allowed", format.Name())
			}
		}
	}
}

func TestUnpackHostileZip(t *testing.T) {
	for name, write := range map[string]func(z *zip.Writer){
		"up":       func(z *zip.Writer) { put(z, "../evil", "x", 0o644) },
		"absolute": func(z *zip.Writer) { put(z, "/tmp/evil", "x", 0o644) },
		"through a link": func(z *zip.Writer) {
			put(z, "way", "..", fs.ModeSymlink|0o777)
			put(z, "way/evil", "x", 0o644)
		},
		"backslash": func(z *zip.Writer) { put(z, `..\evil`, "x", 0o644) },
		"a folder's name": func(z *zip.Writer) {
			put(z, "a/b", "x", 0o644)
			put(z, "a", "x", 0o644)
		},
	} {
		var buf bytes.Buffer
		z := zip.NewWriter(&buf)
		write(z)
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		unpackHostile(t, name, buf.Bytes())
	}
}

func put(z *zip.Writer, name, content string, mode fs.FileMode) {
	h := &zip.FileHeader{Name: name}
	h.SetMode(mode)
	w, err := z.CreateHeader(h)
	if err == nil {
		_, err = w.Write([]byte(content))
	}
	if err != nil {
		panic(err)
	}
}

// unpackHostile expects a refusal and that nothing is beside the folder.
func unpackHostile(t *testing.T, name string, data []byte) {
	t.Helper()
	base := t.TempDir()
	file, place := filepath.Join(base, "a"), filepath.Join(base, "place")
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(place, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := (archive.Unpacker{}).Unpack(t.Context(), file, place, readers...); err == nil {
		t.Errorf("%s was unpacked", name)
	}
	if entries, err := os.ReadDir(base); err != nil || len(entries) != 2 {
		t.Errorf("%s wrote beside the folder: %v", name, entries)
	}
}

func FuzzUnpack(f *testing.F) {
	var buf bytes.Buffer
	w := tar.NewWriter(&buf)
	for _, h := range []*tar.Header{
		{Name: "a/way", Typeflag: tar.TypeSymlink, Linkname: "../.."},
		{Name: "a/way/x", Typeflag: tar.TypeReg, Mode: 0o644},
		{Name: "b", Typeflag: tar.TypeLink, Linkname: "a/way"},
	} {
		if err := w.WriteHeader(h); err != nil {
			f.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		f.Fatal(err)
	}
	f.Add(buf.Bytes(), 0)
	f.Add(buf.Bytes(), 1)
	f.Fuzz(func(t *testing.T, data []byte, drop int) {
		base := t.TempDir()
		file, place := filepath.Join(base, "a"), filepath.Join(base, "place")
		if os.WriteFile(file, data, 0o644) != nil || os.Mkdir(place, 0o755) != nil {
			t.Skip()
		}
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		_ = archive.Unpacker{Drop: max(0, drop%3), Most: 1 << 20}.Unpack(ctx, file, place, readers...)
		if entries, err := os.ReadDir(base); err != nil || len(entries) != 2 {
			t.Errorf("it wrote beside the folder: %v", entries)
		}
	})
}
