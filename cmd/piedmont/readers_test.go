package main

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"piedmont/internal/base/testclient"
	"piedmont/internal/release"
)

// awkward is a project with every kind of entry, in every archive format.
func awkward(t *testing.T) string {
	files := small()
	files["share/with space.txt"] = "a\n"
	files["share/ünïcode.txt"] = "b\n"
	files["share/empty"] = ""
	files["share/"+strings.Repeat("long-folder-name/", 9)+strings.Repeat("x", 120)] = "deep\n"
	files["share/run.sh"] = "#!/bin/sh\necho run\n"
	files["private.txt"] = "not for everybody\n"
	files["secret/deep/more.txt"] = "not for everybody either\n"
	files[".gitattributes"] = "private.txt export-ignore\nsecret/ export-ignore\n*.txt text eol=crlf\n"
	files["piedmont.toml"] = `[project]
name = "chime"

[program.chime]
language  = "go"
source    = "."
platforms = ["` + here + `"]

[bundle.chime]
programs = ["chime"]
files    = ["LICENSE", "share/**", { from = "share/run.sh", to = "bin/", mode = "0750" }]
formats  = ["tar.gz", "tar.xz", "tar.zst", "zip"]
folder   = "{project}-{version}"

[source]
formats = ["tar.gz", "tar.xz", "tar.zst", "zip"]
`
	dir := filepath.Join(t.TempDir(), "project")
	write(t, dir, files)
	if err := os.Chmod(filepath.Join(dir, "share", "run.sh"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("with space.txt", filepath.Join(dir, "share", "link")); err != nil {
		t.Fatal(err)
	}
	git(t, dir, "init", "--quiet", "--initial-branch=main")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "--message", "Begin")
	git(t, dir, "tag", "v1.0.0")
	return dir
}

// GNU tar, bsdtar and unzip find in every archive what the manifest says: the
// paths, modes, times and bytes.
func TestRealReaders(t *testing.T) {
	dir := awkward(t)
	call{dir: dir}.ok(t, "make")
	outbox := filepath.Join(dir, "outbox", "1.0.0")
	data, err := os.ReadFile(filepath.Join(outbox, "manifest.json"))
	if err != nil {
		t.Fatal(err)
	}
	m, err := release.Parse(data)
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Files) != 9 {
		t.Fatalf("%d files, want 9", len(m.Files))
	}
	for _, f := range m.Files {
		if f.Kind == "notes" {
			continue
		}
		readers := map[string][]string{"bsdtar": {"-x", "-p", "-f"}, "tar": {"-x", "-p", "-f"}}
		if strings.HasSuffix(f.Name, ".zip") {
			delete(readers, "tar")
			readers["unzip"] = []string{"-q"}
		}
		for reader, args := range readers {
			t.Run(reader+"/"+f.Name, func(t *testing.T) {
				testclient.Need(t, reader)
				into := t.TempDir()
				cmd := exec.Command(reader, append(args, filepath.Join(outbox, f.Name))...)
				cmd.Dir, cmd.Env = into, append(os.Environ(), "LC_ALL=C.UTF-8", "TZ=America/St_Johns")
				if out, err := cmd.CombinedOutput(); err != nil || len(out) > 0 {
					t.Fatalf("%v\n%s", err, out)
				}
				if f.Kind == "bundle" {
					compareHolds(t, into, f.Holds, m.Commit.Time)
				} else {
					compareSource(t, into, dir)
				}
			})
		}
	}
	sums := exec.Command(testclient.Need(t, "sha256sum"), "--check", "--strict", "SHA256SUMS")
	sums.Dir = outbox
	if out, err := sums.CombinedOutput(); err != nil || strings.Count(string(out), ": OK") != 10 {
		t.Errorf("sha256sum: %v\n%s", err, out)
	}
}

func compareHolds(t *testing.T, dir string, holds []release.Entry, commit time.Time) {
	t.Helper()
	found := map[string]bool{}
	for _, e := range holds {
		path := filepath.Join(dir, filepath.FromSlash(e.Path))
		found[e.Path] = true
		info, err := os.Lstat(path)
		if err != nil {
			t.Error(err)
			continue
		}
		if e.Link != "" {
			if target, err := os.Readlink(path); err != nil || target != e.Link {
				t.Errorf("%s leads to %q, want %q (%v)", e.Path, target, e.Link, err)
			}
			continue
		}
		if mode := info.Mode().Perm(); mode != e.Mode.Perm() {
			t.Errorf("%s has the mode %s, want %s", e.Path, mode, e.Mode)
		}
		if !info.ModTime().Equal(commit) {
			t.Errorf("%s has the time %s, want %s", e.Path, info.ModTime(), commit)
		}
		data, err := os.ReadFile(path)
		if err != nil || release.Digest(data) != e.SHA256 || int64(len(data)) != e.Size {
			t.Errorf("%s has other bytes (%v)", e.Path, err)
		}
	}
	for name := range tree(t, dir) {
		if !found[name] {
			t.Errorf("%s is not in the manifest", name)
		}
	}
	if len(holds) != 9 {
		t.Errorf("the manifest names %d entries, want 9", len(holds))
	}
}

// compareSource holds an unpacked source archive against git: its bytes, without
// conversion, and without what is marked export-ignore.
func compareSource(t *testing.T, into, dir string) {
	t.Helper()
	have := tree(t, filepath.Join(into, "chime-1.0.0"))
	n := 0
	for _, line := range strings.Split(git(t, dir, "-c", "core.quotePath=false", "ls-tree", "-r", "v1.0.0"), "\n") {
		meta, name, _ := strings.Cut(line, "\t")
		if name == "private.txt" || strings.HasPrefix(name, "secret/") {
			continue
		}
		n++
		if strings.HasPrefix(meta, "120000") {
			continue // tree read through the link
		}
		blob, err := exec.Command("git", "-C", dir, "cat-file", "blob", strings.Fields(meta)[2]).Output()
		if err != nil || have[name] != string(blob) {
			t.Errorf("%s is not what git has (%v)", name, err)
		}
		info, err := os.Stat(filepath.Join(into, "chime-1.0.0", filepath.FromSlash(name)))
		if want := strings.HasPrefix(meta, "100755"); err != nil || (info.Mode()&0o100 != 0) != want {
			t.Errorf("%s: executable %v, want %v (%v)", name, !want, want, err)
		}
	}
	if len(have) != n {
		t.Errorf("%d files, git has %d", len(have), n)
	}
}

func TestSourceWithSubmodules(t *testing.T) {
	sub := filepath.Join(t.TempDir(), "bell")
	write(t, sub, map[string]string{"bell.txt": "dong\n", "hidden.txt": "x\n",
		".gitattributes": "hidden.txt export-ignore\n"})
	git(t, sub, "init", "--quiet", "--initial-branch=main")
	git(t, sub, "add", "--all")
	git(t, sub, "commit", "--quiet", "--message", "Begin")
	dir := project(t, small())
	git(t, dir, "-c", "protocol.file.allow=always", "submodule", "--quiet", "add", sub, "third/bell")
	git(t, dir, "commit", "--quiet", "--message", "Add the bell")
	git(t, dir, "tag", "v1.1.0")
	call{dir: dir}.ok(t, "make")
	out, err := exec.Command("tar", "-tzf", filepath.Join(dir, "outbox/1.1.0/chime-1.1.0-source.tar.gz")).Output()
	if err != nil {
		t.Fatal(err)
	}
	contains(t, string(out), "chime-1.1.0/third/bell/bell.txt", "chime-1.1.0/.gitmodules")
	if strings.Contains(string(out), "hidden.txt") {
		t.Errorf("export-ignore of the submodule is not honoured:\n%s", out)
	}

	clone := filepath.Join(t.TempDir(), "clone")
	git(t, dir, "clone", "--quiet", dir, clone)
	if r := (call{dir: clone}).run(t, "make"); r.code != 1 ||
		!strings.Contains(r.err, "git submodule update --init --recursive") {
		t.Errorf("without the submodule: exit %d\n%s", r.code, r.err)
	}
}

func TestManifestFollowsItsSchema(t *testing.T) {
	dir := awkward(t)
	call{dir: dir}.ok(t, "make")
	schema, err := jsonschema.NewCompiler().Compile("../../docs/manifest.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(filepath.Join(dir, "outbox/1.0.0/manifest.json"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	doc, err := jsonschema.UnmarshalJSON(f)
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(doc); err != nil {
		t.Error(err)
	}
	doc.(map[string]any)["surplus"] = true
	if schema.Validate(doc) == nil {
		t.Error("the schema accepts what is in no manifest")
	}
}

// The page and the feed are what browsers and feed readers take, from the
// server and from a folder alike.
func TestPageAndFeedParse(t *testing.T) {
	xmllint := testclient.Need(t, "xmllint")
	chromium := testclient.Need(t, "chromium")
	p := servePage(t, nil)
	dir := project(t, small())
	call{dir, p.env()}.ok(t, "ship")
	share := filepath.Join(filepath.Dir(dir), "share")
	feed := filepath.Join(t.TempDir(), "feed.atom")
	resp, err := http.Get(p.url + "/chime/feed.atom")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = resp.Body.Close() }()
	out, err := os.Create(feed)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := out.ReadFrom(resp.Body); err != nil {
		t.Fatal(err)
	}
	_ = out.Close()
	for _, file := range []string{feed, filepath.Join(share, "feed.atom")} {
		got, err := exec.Command(xmllint, "--xpath",
			`string(/*[local-name()="feed"]/*[local-name()="entry"]/*[local-name()="title"])`, file).CombinedOutput()
		if err != nil || strings.TrimSpace(string(got)) != "chime 1.0.0" {
			t.Errorf("the feed %s: %v\n%s", file, err, got)
		}
	}
	for _, address := range []string{p.url + "/chime/", p.url + "/chime/1.0.0/", "file://" + share +
		"/index.html", "file://" + share + "/1.0.0/index.html"} {
		dom, err := exec.Command(chromium, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic",
			"--no-first-run",
			"--disable-background-networking", "--disable-component-update", "--disable-sync",
			"--user-data-dir="+t.TempDir(), "--dump-dom", address).Output()
		if err != nil {
			t.Fatalf("chromium: %v", err)
		}
		contains(t, string(dom), "<h1>1.0.0", "chime-1.0.0-source.tar.gz", `class="group own"`)
	}
	var index struct {
		Latest   string
		Releases []struct{ Version, Path string }
	}
	data, err := os.ReadFile(filepath.Join(share, "index.json"))
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(data, &index); err != nil || index.Latest != "1.0.0" || len(index.Releases) != 1 ||
		index.Releases[0].Path != "1.0.0/" {
		t.Errorf("the index: %v %+v", err, index)
	}
}
