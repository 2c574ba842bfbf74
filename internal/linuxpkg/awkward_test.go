package linuxpkg_test

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/testclient"
	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/alpm"
	"piedmont/internal/linuxpkg/apk"
	"piedmont/internal/linuxpkg/deb"
	"piedmont/internal/linuxpkg/rpm"
	"piedmont/internal/project/version"
)

var when = time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)

func file(path, content string, mode fs.FileMode) linuxpkg.File {
	sum := sha256.Sum256([]byte(content))
	return linuxpkg.File{Path: path, Mode: mode, Owner: "root", Group: "root", Size: int64(len(content)), SHA256: hex.EncodeToString(sum[:]),
		Source: archive.Source{Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil }}}
}

func link(path, target string) linuxpkg.File {
	return linuxpkg.File{Path: path, Mode: 0o777, Owner: "root", Group: "root", Link: target}
}

func folder(path string, mode fs.FileMode) linuxpkg.File {
	return linuxpkg.File{Path: path, Mode: fs.ModeDir | mode, Owner: "root", Group: "root"}
}

func relation(t testing.TB, texts ...string) []linuxpkg.Relation {
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

// write makes a package as a format's own tool names it.
func write(t testing.TB, p linuxpkg.Package, format, compression string) string {
	t.Helper()
	p.Format = format
	if p.Revision == "" {
		p.Revision = "1"
	}
	if p.Arch == "" {
		var err error
		if p.Arch, err = linuxpkg.ArchOf(format, platform.Platform{}); err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join(t.TempDir(), p.FileName())
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	slices.SortFunc(p.Files, func(a, b linuxpkg.File) int { return strings.Compare(a.Path, b.Path) })
	o := archive.Options{Jobs: 2, Effort: archive.Fast}
	switch format {
	case linuxpkg.Deb:
		err = deb.Write(t.Context(), f, &p, compression, o)
	case linuxpkg.RPM:
		err = rpm.Write(t.Context(), f, &p, compression, o)
	case linuxpkg.APK:
		err = apk.Write(t.Context(), f, &p, o)
	default:
		err = alpm.Write(t.Context(), f, &p, map[bool]string{true: "zst", false: compression}[compression == "gz"], o)
	}
	if err != nil {
		t.Fatalf("%s: %v", format, err)
	}
	return path
}

type awkward struct {
	name  string
	p     linuxpkg.Package
	wants []string // that the file list must have
}

func base() linuxpkg.Package {
	return linuxpkg.Package{Name: "bell", Version: "1.0.0", Summary: "Rings", License: "Apache-2.0", Maintainer: "Ines <ines@ridge-signals.example>", Source: "bells", Time: when}
}

func with(change func(p *linuxpkg.Package)) linuxpkg.Package {
	p := base()
	change(&p)
	return p
}

func holding(files ...linuxpkg.File) linuxpkg.Package {
	return with(func(p *linuxpkg.Package) { p.Files = files })
}

func awkwards(t testing.TB) []awkward {
	long := func(n int) string { return strings.Repeat("deep/", n/5) + strings.Repeat("x", n%5+1) }
	var many []linuxpkg.File
	for i := range 20000 {
		many = append(many, file(fmt.Sprintf("opt/many/%03d/%05d", i/100, i), fmt.Sprint(i), 0o644))
	}
	noise := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(i*i>>7 ^ i>>3)
		}
		return string(b)
	}
	list := []awkward{
		{"empty", base(), nil},
		{"one file", holding(file("usr/bin/bell", "ring", 0o755)), []string{"usr/bin/bell"}},
		{"20,000 files", holding(many...), []string{"opt/many/199/19999"}},
		{"a file of no bytes", holding(file("opt/none", "", 0o644)), []string{"opt/none"}},
		{"a file of one byte", holding(file("opt/one", "x", 0o644)), nil},
		{"a file of 511 bytes", holding(file("opt/f", noise(511), 0o644)), nil},
		{"a file of 512 bytes", holding(file("opt/f", noise(512), 0o644)), nil},
		{"a file of 3 MiB", holding(file("opt/f", noise(3<<20), 0o644)), nil},
		{"deep folders", holding(file("opt/"+strings.Repeat("a/", 60)+"f", "x", 0o644)), nil},
		{"a path of 99 bytes", holding(file("opt/"+long(95), "x", 0o644)), nil},
		{"a path of over 100 bytes", holding(file("opt/"+long(120), "x", 0o644)), nil},
		{"a path of over 255 bytes", holding(file("opt/"+long(300), "x", 0o644)), nil},
		{"a name of 200 bytes", holding(file("opt/"+strings.Repeat("n", 200), "x", 0o644)), nil},
		{"a name with a space", holding(file("opt/under the hill", "x", 0o644)), []string{"under the hill"}},
		{"a name of UTF-8", holding(file("opt/Hüttenglocke-鐘", "x", 0o644)), nil},
		{"a name with signs", holding(file("opt/a+b,c@d=e#f~g%h[i]", "x", 0o644)), nil},
		{"a name with a quote", holding(file("opt/Ines's", "x", 0o644)), nil},
		{"a name with a backslash", holding(file(`opt/a\b`, "x", 0o644)), nil},
		{"a name with a star", holding(file("opt/*", "x", 0o644)), nil},
		{"a hidden file", holding(file("opt/.hidden", "x", 0o644)), nil},
		{"a link beside", holding(file("opt/a", "x", 0o644), link("opt/b", "a")), []string{"opt/b"}},
		{"a link up", holding(file("opt/a", "x", 0o644), link("opt/d/b", "../a")), nil},
		{"an absolute link", holding(link("opt/b", "/usr/share")), nil},
		{"a link to nothing", holding(link("opt/b", "nowhere")), nil},
		{"a long link", holding(link("opt/b", long(180))), nil},
		{"a link of UTF-8", holding(link("opt/b", "Hütte im Schnee")), nil},
		{"setuid", holding(file("opt/s", "x", 0o755|fs.ModeSetuid)), nil},
		{"setgid", holding(file("opt/s", "x", 0o755|fs.ModeSetgid)), nil},
		{"a sticky folder", holding(folder("opt/sticky", 0o777|fs.ModeSticky)), nil},
		{"a private folder", holding(folder("opt/private", 0o700), file("opt/private/f", "x", 0o600)), nil},
		{"an empty folder", holding(folder("opt/empty", 0o755)), nil},
		{"no permissions", holding(file("opt/closed", "x", 0)), nil},
		{"a configuration file", holding(func() linuxpkg.File { f := file("etc/bell.conf", "x", 0o640); f.Keep = true; return f }()), nil},
		{"an epoch", with(func(p *linuxpkg.Package) { p.Epoch = 3 }), nil},
		{"a long description", with(func(p *linuxpkg.Package) {
			p.Description = "\n  indented\n.dotted\n\n\n" + strings.Repeat("word ", 2000) + "\n\ttabbed\n"
		}), nil},
		{"a description of UTF-8", with(func(p *linuxpkg.Package) { p.Summary, p.Description = "Läutet", "Für Hütten – 鐘" }), nil},
		{"a maintainer of UTF-8", with(func(p *linuxpkg.Package) { p.Maintainer = "Jürg Bündner <jb@ridge-signals.example>" }), nil},
		{"many relations", with(func(p *linuxpkg.Package) {
			for i := range 200 {
				p.Suggests = append(p.Suggests, relation(t, fmt.Sprintf("friend-%d >= %d.0.0", i, i))...)
			}
		}), nil},
		{"relations of every kind", with(func(p *linuxpkg.Package) {
			p.Recommends = relation(t, "r1", "r2 < 1.0.0", "r3 <= 1.0.0", "r4 = 1.0.0", "r5 >= 1.0.0-rc.1", "r6 > 1.0.0")
			p.Conflicts, p.Replaces, p.Provides = relation(t, "c < 2.0.0"), relation(t, "old < 1.0.0"), relation(t, "ring", "peal = 1.0.0")
		}), nil},
		{"a script", with(func(p *linuxpkg.Package) {
			p.Scripts = linuxpkg.Scripts{BeforeInstall: "exit 0", AfterInstall: "#!/bin/sh\necho 'it'\"'\"'s there' \\\n | cat", AfterRemove: "true"}
		}), nil},
		{"changes", with(func(p *linuxpkg.Package) {
			p.Changes = []string{"it rings", "über alles", strings.Repeat("long ", 50)}
		}), nil},
	}
	for _, v := range []string{"0.0.1", "2026.11.23", "1.4.0-rc.1", "1.4.1-preview.3.g3f2a91c0", "1.0.0-alpha", "999999.0.0"} {
		list = append(list, awkward{"version " + v, with(func(p *linuxpkg.Package) { p.Version = v }), nil})
	}
	return list
}

// Every awkward package is made in every format, read by the format's own tools
// with nothing to complain about, installed where there is a root for it, and
// read back by this project.
func TestAwkwardPackages(t *testing.T) {
	for _, tool := range []string{"dpkg-deb", "rpm", "pacman", "python3"} {
		testclient.Need(t, tool)
	}
	list := awkwards(t)
	if len(list) < 40 {
		t.Errorf("there are %d", len(list))
	}
	conf := filepath.Join(t.TempDir(), "pacman.conf")
	if err := os.WriteFile(conf, []byte("[options]\nArchitecture = x86_64\nSigLevel = Never\nLocalFileSigLevel = Never\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, a := range list {
		t.Run(a.name, func(t *testing.T) {
			for _, format := range linuxpkg.Formats {
				p := a.p
				var err error
				if p.Version, err = version.Spell(format, p.Version); err != nil {
					t.Fatal(err)
				}
				p.Files = slices.Clone(p.Files)
				path := write(t, p, format, "gz")
				tools(t, format, path, conf)
				readBack(t, format, path, p)
			}
		})
	}
}

func output(t *testing.T, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Errorf("%s %v: %v\n%s", name, args, err, out[:min(len(out), 2000)])
	}
	if bytes.Contains(out, []byte("warning")) || bytes.Contains(out, []byte("error")) {
		t.Errorf("%s says:\n%s", name, out[:min(len(out), 2000)])
	}
	return string(out)
}

func tools(t *testing.T, format, path, conf string) {
	t.Helper()
	root := filepath.Join(t.TempDir(), "root")
	for _, dir := range []string{"var/lib/pacman", "var/lib/dpkg/updates", "var/lib/dpkg/info", "var/lib/dpkg/triggers", "tmp"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	installs := os.Getuid() == 0 && !strings.Contains(t.Name(), "script")
	switch format {
	case linuxpkg.Deb:
		output(t, "dpkg-deb", "-I", path)
		output(t, "dpkg-deb", "-c", path)
		if installs {
			output(t, "dpkg", "--root="+root, "--force-unsafe-io", "-i", path)
			if out := output(t, "dpkg", "--root="+root, "--verify"); out != "" {
				t.Errorf("dpkg finds changed:\n%s", out)
			}
		}
	case linuxpkg.RPM:
		output(t, "rpm", "-K", path)
		output(t, "rpm", "-qpil", path)
		if installs {
			out, err := exec.Command("rpm", "--root="+root, "-i", "--nosignature", path).CombinedOutput()
			if err != nil || bytes.Contains(out, []byte("error")) || bytes.Contains(out, []byte("warning")) {
				t.Errorf("rpm -i: %v\n%s", err, out)
			}
			if out, err := exec.Command("rpm", "--root="+root, "-V", "bell").Output(); err != nil || len(out) > 0 {
				t.Errorf("rpm -V: %v\n%s", err, out)
			}
		}
	case linuxpkg.APK:
		output(t, "python3", "../../cmd/piedmont/testdata/apkcheck.py", path)
	case linuxpkg.Arch:
		output(t, "pacman", "--config", conf, "-Qilp", path)
		if installs {
			args := []string{"--config", conf, "--root", root, "--dbpath", filepath.Join(root, "var/lib/pacman"), "--cachedir", filepath.Join(root, "tmp"), "--hookdir", filepath.Join(root, "tmp"), "--noconfirm"}
			output(t, "pacman", append(args, "-U", path)...)
			if out := output(t, "pacman", append(args, "-Qkk", "bell")...); !strings.Contains(out, "0 altered files") {
				t.Errorf("pacman finds changed:\n%s", out)
			}
		}
	}
}

// read reads a package, and gives the digests of its files' content.
func read(format, path string) (*linuxpkg.Shown, map[string]string, error) {
	sums := map[string]string{}
	look := func(i archive.Item, r io.Reader) error {
		h := sha256.New()
		_, err := io.Copy(h, r)
		sums[plainPath(i)] = hex.EncodeToString(h.Sum(nil))
		return err
	}
	by := map[string]func(string, func(archive.Item, io.Reader) error) (*linuxpkg.Shown, error){linuxpkg.Deb: deb.Read, linuxpkg.RPM: rpm.Read, linuxpkg.APK: apk.Read, linuxpkg.Arch: alpm.Read}
	s, err := by[format](path, look)
	return s, sums, err
}

func plainPath(i archive.Item) string { return strings.Trim(strings.TrimPrefix(i.Path, "./"), "/") }

func readBack(t *testing.T, format, path string, p linuxpkg.Package) {
	t.Helper()
	s, sums, err := read(format, path)
	if err != nil {
		t.Errorf("%s: %v", format, err)
		return
	}
	if s.Name != p.Name || !strings.Contains(s.Version, p.Version) {
		t.Errorf("%s: %s %s was read back", format, s.Name, s.Version)
	}
	have := map[string]archive.Item{}
	for _, i := range s.Files {
		have[plainPath(i)] = i
	}
	for _, f := range p.Files {
		i, ok := have[f.Path]
		if !ok || i.Link != f.Link || (f.Link == "" && !f.Dir() && i.Size != f.Size) || (f.Link == "" && i.Mode != fmt.Sprintf("%04o", f.Unix()&0o7777)) {
			t.Errorf("%s: %s was read back as %+v", format, f.Path, i)
			return
		}
		if f.Link == "" && !f.Dir() && sums[f.Path] != f.SHA256 {
			t.Errorf("%s: %s has another content: %s", format, f.Path, sums[f.Path])
		}
	}
}

// Other compressions are read by the same tools, also in several zstd frames.
func TestCompressions(t *testing.T) {
	lines := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintln(&b, i*i)
		}
		return b.String()
	}
	p := holding(file("opt/f", lines(700000), 0o644), file("opt/g", "ring", 0o644), file("opt/h", lines(70000), 0o644))
	conf := filepath.Join(t.TempDir(), "pacman.conf")
	if err := os.WriteFile(conf, []byte("[options]\nArchitecture = x86_64\nSigLevel = Never\nLocalFileSigLevel = Never\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	testclient.Need(t, "dpkg-deb")
	testclient.Need(t, "rpm")
	testclient.Need(t, "pacman")
	for _, c := range []string{"xz", "zst", "gz"} {
		for _, format := range []string{linuxpkg.Deb, linuxpkg.RPM, linuxpkg.Arch} {
			path := write(t, p, format, c)
			tools(t, format, path, conf)
			readBack(t, format, path, p)
		}
	}
}

// A payload that does not hold what the header says is told as damaged.
func TestDamagedPayloads(t *testing.T) {
	path := write(t, holding(file("opt/f", "ring", 0o644), link("opt/g", "f")), linuxpkg.RPM, "gz")
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	at := bytes.Index(data, []byte{0x1f, 0x8b, 8, 0})
	r, err := gzip.NewReader(bytes.NewReader(data[at:]))
	if err != nil {
		t.Fatal(err)
	}
	payload, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	change := func(from, to string) []byte { return bytes.Replace(payload, []byte(from), []byte(to), 1) }
	for name, damaged := range map[string][]byte{
		"cut off":          payload[:len(payload)/2],
		"no trailer":       payload[:bytes.LastIndex(payload, []byte("070701"))],
		"nothing":          nil,
		"another magic":    change("070701", "070700"),
		"another file":     change("./opt/f", "./opt/x"),
		"leaves":           change("./opt/f", "../.p/f"),
		"a size of a lie":  change("0000000400000000", "7fffffff00000000"),
		"not a number":     change("0000000400000000", "0000-00400000000"),
		"endless name":     change("00000008", "ffffffff"),
		"number of a file": []byte("07070X000000ff\x00\x00"),
		"number below all": []byte("07070X-0000001\x00\x00"),
		"negative size":    change("0000000400000000", "-000000400000000"),
	} {
		if bytes.Equal(damaged, payload) {
			t.Errorf("%s: nothing was changed", name)
		}
		if err := os.WriteFile(path, append(bytes.Clone(data[:at]), damaged...), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, _, err := read(linuxpkg.RPM, path); err == nil || !strings.Contains(err.Error(), "damaged") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// The bytes of every format are pinned; see TestGoldenBytes.
func TestGoldenPackages(t *testing.T) {
	golden := map[string]string{"deb": "a246289cdd50ebf6", "rpm": "9b88e4521a582601", "apk": "4cd0376a4942bb16", "arch": "d821003e8c6729e7"}
	for format, want := range golden {
		p := holding(file("usr/bin/bell", "ring", 0o755), link("usr/bin/gong", "bell"), file("etc/bell", "x", 0o644))
		p.Needs = relation(t, "base >= 1.0.0")
		p.Scripts.AfterInstall = "true"
		var sums []string
		for range 2 {
			data, err := os.ReadFile(write(t, p, format, "gz"))
			if err != nil {
				t.Fatal(err)
			}
			sum := sha256.Sum256(data)
			sums = append(sums, hex.EncodeToString(sum[:8]))
		}
		if sums[0] != sums[1] || sums[0] != want {
			t.Errorf("%s: the digest begins %s, want %s", format, sums[0], want)
		}
	}
}

func FuzzReadPackages(f *testing.F) {
	p := holding(file("usr/bin/bell", "ring", 0o755), link("usr/bin/gong", "bell"))
	for i, format := range linuxpkg.Formats {
		data, err := os.ReadFile(write(f, p, format, "gz"))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data, i)
	}
	path := filepath.Join(f.TempDir(), "package")
	f.Fuzz(func(t *testing.T, data []byte, format int) {
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		_, _, _ = read(linuxpkg.Formats[(format%4+4)%4], path) // whatever comes, it neither crashes nor hangs
	})
}
