// Package packagetest is what tests of package formats share: packages to write,
// and versions in their order.
package packagetest

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/semver"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// When is the time of every package.
var When = time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)

// File is one with a content.
func File(path, content string, mode fs.FileMode) release.Entry {
	e := linuxpkg.Written(path, content)
	e.Mode, e.Content = mode, compress.Text(content)
	e.SHA256 = release.Digest([]byte(content))
	e.Owner, e.Group = "root", "root"
	return e
}

// Link is a symbolic link.
func Link(path, target string) release.Entry {
	e := entry(path, fs.ModeSymlink|0o777)
	e.Link = target
	return e
}

// Folder is one that is declared.
func Folder(path string, mode fs.FileMode) release.Entry { return entry(path, fs.ModeDir|mode) }

func entry(path string, mode fs.FileMode) release.Entry {
	var e release.Entry
	e.Path, e.Mode, e.Owner, e.Group = path, mode, "root", "root"
	return e
}

// Relations reads them.
func Relations(t testing.TB, texts ...string) []linuxpkg.Relation {
	t.Helper()
	var out []linuxpkg.Relation
	for _, s := range texts {
		r, err := linuxpkg.ParseRelation(s)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, r)
	}
	return out
}

// Base is a package without files.
func Base() linuxpkg.Package {
	return linuxpkg.Package{Name: "bell", Version: "1.0.0", Summary: "Rings", License: "Apache-2.0",
		Maintainer: "Ines <ines@ridge-signals.example>", Source: "bells", Time: When}
}

// Holding is a package with files.
func Holding(files ...release.Entry) linuxpkg.Package {
	p := Base()
	p.Files = files
	return p
}

// Write makes a package under the name that the format's own tools give it. The
// version is spelled as the format does.
func Write(t testing.TB, format linuxpkg.Format, p linuxpkg.Package, compression string) string {
	t.Helper()
	p.Format = format
	if p.Revision == "" {
		p.Revision = "1"
	}
	var err error
	if p.Version, err = format.Version(p.Version); err != nil {
		t.Fatal(err)
	}
	if p.Arch == "" {
		if p.Arch, err = format.Arch(platform.Platform{}); err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join(t.TempDir(), p.FileName())
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	p.Files = slices.Clone(p.Files)
	slices.SortFunc(p.Files, func(a, b release.Entry) int { return strings.Compare(a.Path, b.Path) })
	o := archive.Options{Time: p.Time, Options: compress.Options{Jobs: 2, Effort: compress.Fast}}
	if err := format.Write(t.Context(), f, &p, compression, o); err != nil {
		t.Fatalf("%s: %v", format.Name(), err)
	}
	return path
}

// Golden makes the same package twice and holds the beginning of its digest
// against what it was when this was written.
func Golden(t *testing.T, format linuxpkg.Format, compression, want string) {
	t.Helper()
	p := Holding(File("usr/bin/bell", "ring", 0o755), Link("usr/bin/gong", "bell"), File("etc/bell", "x", 0o644))
	p.Needs = Relations(t, "base >= 1.0.0")
	p.Scripts.AfterInstall = "true"
	for range 2 {
		data, err := os.ReadFile(Write(t, format, p, compression))
		if err != nil {
			t.Fatal(err)
		}
		if got := release.Digest(data)[:16]; got != want {
			t.Errorf("%s: the digest begins %s, want %s", format.Name(), got, want)
		}
	}
}

// Versions are in their SemVer order, no two of one rank.
func Versions() []string {
	var out []string
	for _, core := range []string{"0.9.0", "1.4.0", "1.4.1", "1.4.10", "1.5.0", "1.10.0", "2.0.0", "10.0.0"} {
		out = append(out, core)
		for _, word := range []string{"alpha", "beta", "preview", "rc"} {
			for _, n := range []int{1, 2, 9, 10, 11, 100, 2026} {
				v := fmt.Sprintf("%s-%s.%d", core, word, n)
				out = append(out, v)
				if word == "rc" {
					for _, k := range []int{1, 9, 10} {
						out = append(out, fmt.Sprintf("%s.preview.%d.g3f2a91c0", v, k))
					}
				}
			}
		}
	}
	slices.SortFunc(out, semver.Compare)
	return out
}

// MoreVersions are pre-releases with words that begin each other; apk does not know them.
func MoreVersions() []string {
	var out []string
	for _, core := range []string{"1.4.0", "1.5.0"} {
		out = append(out, core)
		for _, word := range []string{"a", "ab", "alpha", "alphabet", "b", "dev", "devel", "pre", "preview",
			"r", "rc", "rcx"} {
			for _, n := range []string{"", ".1", ".2", ".10", ".1.x", ".2.x.3"} {
				out = append(out, core+"-"+word+n)
			}
		}
	}
	slices.SortFunc(out, semver.Compare)
	return out
}

// Pairs are neighbours and others, as indexes i < j.
func Pairs(n, others int) [][2]int {
	var out [][2]int
	for i := 1; i < n; i++ {
		out = append(out, [2]int{i - 1, i})
	}
	r := rand.New(rand.NewSource(1))
	for range others {
		i, j := r.Intn(n), r.Intn(n)
		if i != j {
			out = append(out, [2]int{min(i, j), max(i, j)})
		}
	}
	return out
}

// Spelled writes versions as a format does.
func Spelled(t *testing.T, format linuxpkg.Format, versions []string) []string {
	t.Helper()
	out := make([]string, len(versions))
	for i, v := range versions {
		s, err := format.Version(v)
		if err != nil {
			t.Fatal(err)
		}
		out[i] = s
	}
	return out
}

// Leaks lets packages fail in the middle of a large file, and sees that no
// goroutine stays behind.
func Leaks(t *testing.T, format linuxpkg.Format, compression string) {
	t.Helper()
	before := runtime.NumGoroutine()
	for i := range 20 {
		p := Holding(File("usr/bin/bell", "ring", 0o755), File("usr/share/tone", strings.Repeat("tone", 1<<18), 0o644))
		p.Format, p.Revision, p.Arch = format, "1", "any"
		err := format.Write(t.Context(), &full{room: 1000 * i}, &p, compression,
			archive.Options{Time: p.Time, Options: compress.Options{Jobs: 4, Effort: compress.Fast}})
		if err == nil && i == 0 {
			t.Fatal("a full disk went unnoticed")
		}
	}
	for range 100 {
		if runtime.NumGoroutine() <= before+1 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("%d goroutines before, %d after", before, runtime.NumGoroutine())
}

// full is a writer that has room for so many bytes.
type full struct{ room int }

func (f *full) Write(p []byte) (int, error) {
	if f.room < len(p) {
		return 0, errors.New("no space left")
	}
	f.room -= len(p)
	return len(p), nil
}
