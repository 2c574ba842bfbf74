package compress

import (
	"bytes"
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What goes into a spool comes out in its order, whether it fits into memory,
// lies on the disk, or stands in files of its own.
func TestSpool(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	kept := filepath.Join(t.TempDir(), "kept")
	if err := os.WriteFile(kept, []byte(noise(70000)), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, pieces := range map[string][]string{
		"nothing":        nil,
		"small":          {"a", "b"},
		"between files":  {"a", kept, "b", "c", kept, kept, "d"},
		"begins as file": {kept, "a"},
		"large":          {"a", noise(spoolMemory), kept, noise(3 * spoolMemory), "b", kept, "c"},
	} {
		sum := sha256.New()
		s, bare := NewSpool(sum), NewSpool(nil)
		var want bytes.Buffer
		for _, p := range pieces {
			for _, one := range []*Spool{s, bare} {
				var err error
				if p == kept {
					err = one.Place(kept)
				} else {
					_, err = io.WriteString(one, p)
				}
				if err != nil {
					t.Fatal(err)
				}
			}
			if p == kept {
				p = noise(70000)
			}
			want.WriteString(p)
		}
		for _, one := range []*Spool{s, bare} {
			for range 2 {
				var got bytes.Buffer
				n, err := one.WriteTo(&got)
				if err != nil || n != int64(want.Len()) || one.Size() != n || !bytes.Equal(got.Bytes(), want.Bytes()) {
					t.Errorf("%s: %d bytes of %d, size %d, %v", name, n, want.Len(), one.Size(), err)
				}
			}
		}
		if whole := sha256.Sum256(want.Bytes()); !bytes.Equal(sum.Sum(nil), whole[:]) {
			t.Errorf("%s: the digest is another", name)
		}
		s.Close()
		bare.Close()
	}
	if left, _ := os.ReadDir(os.Getenv("TMPDIR")); len(left) > 0 {
		t.Errorf("%d temporary files are left", len(left))
	}
}

// A kept file that changed in between is told, not packed.
func TestSpoolNoticesChange(t *testing.T) {
	kept := filepath.Join(t.TempDir(), "kept")
	s := NewSpool(nil)
	defer s.Close()
	if err := s.Place(kept); err == nil {
		t.Error("a file that is not there was placed")
	}
	for _, content := range []string{"four", "thr"} {
		if err := os.WriteFile(kept, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		if content == "four" {
			if err := s.Place(kept); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := s.WriteTo(io.Discard); err == nil {
		t.Error("a file that became shorter was packed")
	}
	if _, err := s.WriteTo(&failingWriter{2}); err == nil || !strings.Contains(err.Error(), "no space") {
		t.Errorf("a writer that fails: %v", err)
	}
}
