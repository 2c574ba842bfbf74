package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/testclient"
)

// A file is compressed once for all that share an algorithm, also for packages
// that are asked for later; and what was written into is compressed again.
func TestCompressedOnce(t *testing.T) {
	var program strings.Builder
	program.WriteString("#!/bin/sh\nexit\n")
	for i := range 30000 {
		fmt.Fprintf(&program, "# %d\n", i*i)
	}
	files := belld("1.0.0")
	files["prog/belld"] = program.String()
	describe := func(formats string) {
		text := strings.Replace(belld("1.0.0")["piedmont.toml"], `formats = ["deb", "rpm", "apk", "arch"]`,
			"formats = ["+formats+"]", 1)
		files["piedmont.toml"] = text + "\n[bundle.belld]\nprograms = [\"belld\"]\nformats = [\"tar.gz\", " +
			"\"zip\", \"tar.zst\"]\n"
	}
	describe(`"deb"`)
	dir := project(t, files)
	kept := func() map[string]time.Time {
		found := map[string]time.Time{}
		paths, err := filepath.Glob(filepath.Join(dir, ".piedmont/store/compressed/*"))
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range paths {
			if info, err := os.Stat(p); err == nil && filepath.Ext(p) != ".json" {
				found[p] = info.ModTime()
			}
		}
		return found
	}
	call{dir: dir}.ok(t, "make")
	first := kept()
	if len(first) != 2 {
		t.Fatalf("kept: %v", first)
	}
	describe(`"deb", "rpm", "apk", "arch"`)
	write(t, dir, files)
	git(t, dir, "commit", "-qam", "feat: more packages")
	call{dir: dir}.ok(t, "make")
	if again := kept(); fmt.Sprint(again) != fmt.Sprint(first) {
		t.Errorf("compressed again:\n%v\n%v", first, again)
	}
	arch, err := filepath.Glob(filepath.Join(dir, "outbox/*/belld-*-x86_64.pkg.tar.zst"))
	if err != nil || len(arch) != 1 {
		t.Fatal(arch, err)
	}
	out, err := exec.Command(testclient.Need(t, "bsdtar"), "-xOf", arch[0], "usr/bin/belld").Output()
	if err != nil || string(out) != program.String() {
		t.Errorf("%d bytes came out, %v", len(out), err)
	}
	sums := func() string {
		data, err := os.ReadFile(filepath.Join(filepath.Dir(arch[0]), "SHA256SUMS"))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	want := sums()
	for path := range first {
		if err := os.WriteFile(path, []byte("damaged"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, gone := range []string{"outbox", ".piedmont/store/made", ".piedmont/store/objects"} {
		if err := os.RemoveAll(filepath.Join(dir, gone)); err != nil {
			t.Fatal(err)
		}
	}
	call{dir: dir}.ok(t, "make")
	if got := sums(); got != want {
		t.Errorf("from damaged pieces:\n%s\nwant\n%s", got, want)
	}
}

// A file whose bytes are not those of its digest is neither packed nor kept as
// compressed, be it small or large, or a program that was made elsewhere.
func TestContentIsNotItsDigest(t *testing.T) {
	for name, lines := range map[string]int{"chart.txt": 10, "map.txt": 30000, "prog/belld": 10} {
		files := belld("1.0.0")
		files["piedmont.toml"] += "\n[bundle.belld]\nprograms = [\"belld\"]\nfiles = [\"chart.txt\", \"map.txt\"]\n"
		files["chart.txt"], files["map.txt"] = "a line\n", "a line\n"
		files[name] = "#!/bin/sh\n" + strings.Repeat("# a line of it\n", lines)
		dir := project(t, files)
		before := time.Now().Add(-time.Hour)
		change := func(to string, at time.Time) {
			t.Helper()
			path := filepath.Join(dir, name)
			err := os.WriteFile(path, []byte(strings.ReplaceAll(files[name], "line", to)), 0o644)
			if err == nil {
				err = os.Chtimes(path, at, at)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		change("line", before)
		call{dir: dir}.ok(t, "make")
		change("LIFE", before) // with the same size and time
		for _, gone := range []string{"outbox", ".piedmont/store"} {
			if err := os.RemoveAll(filepath.Join(dir, gone)); err != nil {
				t.Fatal(err)
			}
		}
		r := call{dir: dir}.run(t, "make")
		if r.code == 0 {
			t.Errorf("%s: it was packed", name)
		}
		contains(t, r.err, name, "is not what it was", "touch it")
		change("LIFE", before.Add(time.Second))
		call{dir: dir}.ok(t, "make")
	}
}
