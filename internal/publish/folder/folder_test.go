package folder

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/publish"
	"piedmont/internal/publish/publishtest"
)

func TestDestination(t *testing.T) {
	publishtest.Run(t, func(t *testing.T) publishtest.Place {
		dir := filepath.Join(t.TempDir(), "share")
		open := func() publish.Destination { return New(dir, "https://dl.example.org/hutbell", nil) }
		return publishtest.Place{Destination: open(), Another: open,
			Look: func(t *testing.T, version, name string) (string, bool) {
				data, err := os.ReadFile(filepath.Join(dir, version, name))
				return string(data), err == nil
			}}
	})
}

// The folder is a site: pages name what is there, and "latest" leads to it.
func TestSite(t *testing.T) {
	dir := t.TempDir()
	d := New(dir, "https://dl.example.org/hutbell", nil)
	for _, version := range []string{"1.0.0", "1.1.0"} {
		publishtest.Publish(t, d, version, map[string]string{"a.tar.gz": version})
	}
	for file, want := range map[string]string{
		"index.html": "1.1.0/a.tar.gz", "1.0.0/index.html": "There is a newer release",
		"index.json": `"latest": "1.1.0"`,
		"feed.atom":  "https://dl.example.org/hutbell/1.0.0/a.tar.gz", "latest/a.tar.gz": "1.1.0",
	} {
		data, err := os.ReadFile(filepath.Join(dir, file))
		if err != nil || !strings.Contains(string(data), want) {
			t.Errorf("%s: %v, without %s", file, err, want)
		}
	}
}

func TestInspect(t *testing.T) {
	dir := t.TempDir()
	d := New(filepath.Join(dir, "not", "yet"), "", nil)
	if got, err := d.Inspect(t.Context(), "hutbell", "1.0.0"); err != nil || got.Public != "" || got.Says == "" {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := os.Stat(filepath.Join(dir, "not")); err == nil {
		t.Error("looking made a folder")
	}
	publishtest.Publish(t, d, "1.0.0", map[string]string{"a.zip": "a"})
	if got, err := d.Inspect(t.Context(), "hutbell", "1.0.0"); err != nil || got.Public != "1.0.0" {
		t.Errorf("%+v, %v", got, err)
	}
	file := filepath.Join(dir, "file")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := New(file, "", nil).Inspect(t.Context(), "hutbell", ""); err == nil ||
		!strings.Contains(err.Error(), "is not a folder") {
		t.Errorf("a file: %v", err)
	}
}
