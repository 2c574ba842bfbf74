package store

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

func put(t *testing.T, s *Store, name, content string) Object {
	t.Helper()
	w, err := s.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write([]byte(content)); err != nil {
		t.Fatal(err)
	}
	o, err := w.Commit(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return o
}

func TestRememberAndRecall(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	o := put(t, s, "bell", "dong")
	if o.SHA256 != "1ff69c405a41cda970cf36c6c8192247650ea952227fa1df8048e707bf7e8d7a" || len(o.SHA512) != 128 ||
		o.Size != 4 {
		t.Errorf("%+v", o)
	}
	if err := s.Remember("key", []Object{o}); err != nil {
		t.Fatal(err)
	}
	if got, ok := s.Recall("key"); !ok || got[0].Name != "bell" {
		t.Errorf("%v %v", got, ok)
	}
	if _, ok := s.Recall("other"); ok {
		t.Error("an unknown key was known")
	}
	// The same bytes again are one object, and the record stays valid.
	if again := put(t, s, "copy", "dong"); again.Stamp != o.Stamp || !s.Intact(o) {
		t.Error("the object was replaced")
	}
	// Whoever writes into the store is noticed, and the next maker mends it.
	time.Sleep(10 * time.Millisecond)
	if err := os.WriteFile(s.Path(o), []byte("ding"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, ok := s.Recall("key"); ok {
		t.Error("a spoilt object was taken")
	}
	mended := put(t, s, "bell", "dong")
	if data, err := os.ReadFile(s.Path(mended)); err != nil || string(data) != "dong" {
		t.Errorf("%q %v", data, err)
	}
}

func TestDamagedRecords(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for _, damage := range []string{"", "{", `[{"sha256":"../../x"}]`, `[{"sha256":""}]`, "null x"} {
		if err := os.WriteFile(s.record("key"), []byte(damage), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, ok := s.Recall("key"); ok {
			t.Errorf("the record %q was believed", damage)
		}
	}
}

func TestPrune(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	old, young := put(t, s, "old", "old"), put(t, s, "young", "young")
	for key, o := range map[string]Object{"old": old, "young": young} {
		if err := s.Remember(key, []Object{o}); err != nil {
			t.Fatal(err)
		}
	}
	long := time.Now().Add(-100 * time.Hour)
	for _, p := range []string{s.record("old"), s.Path(old), s.Path(young)} {
		if err := os.Chtimes(p, long, long); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Prune(50*time.Hour, time.Now()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(s.Path(old)); !os.IsNotExist(err) {
		t.Error("what nobody needs is still there")
	}
	if _, err := os.Stat(s.Path(young)); err != nil {
		t.Error("what a record names is gone")
	}
	if err := os.WriteFile(filepath.Join(s.dir, "tmp", "left"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := s.ClearTemporary(); err != nil {
		t.Fatal(err)
	}
	if left, _ := os.ReadDir(filepath.Join(s.dir, "tmp")); len(left) > 0 {
		t.Error("temporary files are left")
	}
}

// Compressed bytes stay for as long as their record is used; what a killed run
// left of them goes.
func TestPruneCompressed(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(s.dir, CompressedDir)
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	for name, age := range map[string]time.Duration{"used": 90, "used.json": 1, "unused": 90, "unused.json": 90,
		".new-1": 90, ".new-2": 0} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, nil, 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, now, now.Add(-age*24*time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	for range 2 { // a record may go before its bytes
		if err := s.pruneCompressed(30*24*time.Hour, now); err != nil {
			t.Fatal(err)
		}
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 3 || entries[0].Name() != ".new-2" || entries[1].Name() != "used" ||
		entries[2].Name() != "used.json" {
		t.Errorf("%v, %v", entries, err)
	}
}
