package linuxpkg_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/alpm"
	"piedmont/internal/linuxpkg/deb"
	"piedmont/internal/linuxpkg/packagetest"
	"piedmont/internal/linuxpkg/rpm"
	"piedmont/internal/release"
)

type awkward struct {
	name  string
	p     linuxpkg.Package
	wants []string // that the file list must have
}

func with(change func(p *linuxpkg.Package)) linuxpkg.Package {
	p := packagetest.Base()
	change(&p)
	return p
}

func awkwards(t testing.TB) []awkward {
	long := func(n int) string { return strings.Repeat("deep/", n/5) + strings.Repeat("x", n%5+1) }
	var many []release.Entry
	for i := range 20000 {
		many = append(many, packagetest.File(fmt.Sprintf("opt/many/%03d/%05d", i/100, i), fmt.Sprint(i), 0o644))
	}
	noise := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(i*i>>7 ^ i>>3)
		}
		return string(b)
	}
	list := []awkward{
		{"empty", packagetest.Base(), nil},
		{"one file", packagetest.Holding(packagetest.File("usr/bin/bell", "ring", 0o755)), []string{"usr/bin/bell"}},
		{"20,000 files", packagetest.Holding(many...), []string{"opt/many/199/19999"}},
		{"a file of no bytes", packagetest.Holding(packagetest.File("opt/none", "", 0o644)), []string{"opt/none"}},
		{"a file of one byte", packagetest.Holding(packagetest.File("opt/one", "x", 0o644)), nil},
		{"a file of 511 bytes", packagetest.Holding(packagetest.File("opt/f", noise(511), 0o644)), nil},
		{"a file of 512 bytes", packagetest.Holding(packagetest.File("opt/f", noise(512), 0o644)), nil},
		{"a file of 3 MiB", packagetest.Holding(packagetest.File("opt/f", noise(3<<20), 0o644)), nil},
		{"deep folders", packagetest.Holding(packagetest.File("opt/"+strings.Repeat("a/", 60)+"f", "x", 0o644)), nil},
		{"a path of 99 bytes", packagetest.Holding(packagetest.File("opt/"+long(95), "x", 0o644)), nil},
		{"a path of over 100 bytes", packagetest.Holding(packagetest.File("opt/"+long(120), "x", 0o644)), nil},
		{"a path of over 255 bytes", packagetest.Holding(packagetest.File("opt/"+long(300), "x", 0o644)), nil},
		{"a name of 200 bytes", packagetest.Holding(packagetest.File("opt/"+strings.Repeat("n", 200), "x",
			0o644)), nil},
		{"a name with a space", packagetest.Holding(packagetest.File("opt/under the hill", "x", 0o644)),
			[]string{"under the hill"}},
		{"a name of UTF-8", packagetest.Holding(packagetest.File("opt/Hüttenglocke-鐘", "x", 0o644)), nil},
		{"a name with signs", packagetest.Holding(packagetest.File("opt/a+b,c@d=e#f~g%h[i]", "x", 0o644)), nil},
		{"a name with a quote", packagetest.Holding(packagetest.File("opt/Ines's", "x", 0o644)), nil},
		{"a name with a backslash", packagetest.Holding(packagetest.File(`opt/a\b`, "x", 0o644)), nil},
		{"a name with a star", packagetest.Holding(packagetest.File("opt/*", "x", 0o644)), nil},
		{"a hidden file", packagetest.Holding(packagetest.File("opt/.hidden", "x", 0o644)), nil},
		{"a link beside", packagetest.Holding(packagetest.File("opt/a", "x", 0o644),
			packagetest.Link("opt/b", "a")), []string{"opt/b"}},
		{"a link up", packagetest.Holding(packagetest.File("opt/a", "x", 0o644),
			packagetest.Link("opt/d/b", "../a")), nil},
		{"an absolute link", packagetest.Holding(packagetest.Link("opt/b", "/usr/share")), nil},
		{"a link to nothing", packagetest.Holding(packagetest.Link("opt/b", "nowhere")), nil},
		{"a long link", packagetest.Holding(packagetest.Link("opt/b", long(180))), nil},
		{"a link of UTF-8", packagetest.Holding(packagetest.Link("opt/b", "Hütte im Schnee")), nil},
		{"setuid", packagetest.Holding(packagetest.File("opt/s", "x", 0o755|fs.ModeSetuid)), nil},
		{"setgid", packagetest.Holding(packagetest.File("opt/s", "x", 0o755|fs.ModeSetgid)), nil},
		{"a sticky folder", packagetest.Holding(packagetest.Folder("opt/sticky", 0o777|fs.ModeSticky)), nil},
		{"a private folder", packagetest.Holding(packagetest.Folder("opt/private", 0o700),
			packagetest.File("opt/private/f", "x", 0o600)), nil},
		{"an empty folder", packagetest.Holding(packagetest.Folder("opt/empty", 0o755)), nil},
		{"no permissions", packagetest.Holding(packagetest.File("opt/closed", "x", 0)), nil},
		{"a configuration file",
			packagetest.Holding(func() release.Entry {
				f := packagetest.File("etc/bell.conf", "x", 0o640)
				f.Keep = true
				return f
			}()), nil},
		{"an epoch", with(func(p *linuxpkg.Package) { p.Epoch = 3 }), nil},
		{"a long description", with(func(p *linuxpkg.Package) {
			p.Description = "\n  indented\n.dotted\n\n\n" + strings.Repeat("word ", 2000) + "\n\ttabbed\n"
		}), nil},
		{"a description of UTF-8", with(func(p *linuxpkg.Package) {
			p.Summary, p.Description = "Läutet",
				"Für Hütten – 鐘"
		}), nil},
		{"a maintainer of UTF-8",
			with(func(p *linuxpkg.Package) { p.Maintainer = "Jürg Bündner <jb@ridge-signals.example>" }), nil},
		{"many relations", with(func(p *linuxpkg.Package) {
			for i := range 200 {
				p.Suggests = append(p.Suggests, packagetest.Relations(t, fmt.Sprintf("friend-%d >= %d.0.0", i, i))...)
			}
		}), nil},
		{"relations of every kind", with(func(p *linuxpkg.Package) {
			p.Recommends = packagetest.Relations(t, "r1", "r2 < 1.0.0", "r3 <= 1.0.0", "r4 = 1.0.0",
				"r5 >= 1.0.0-rc.1", "r6 > 1.0.0")
			p.Conflicts, p.Replaces, p.Provides = packagetest.Relations(t,
				"c < 2.0.0"), packagetest.Relations(t, "old < 1.0.0"), packagetest.Relations(t, "ring", "peal = 1.0.0")
		}), nil},
		{"a script", with(func(p *linuxpkg.Package) {
			p.Scripts = linuxpkg.Scripts{BeforeInstall: "exit 0",
				AfterInstall: "#!/bin/sh\necho 'it'\"'\"'s there' \\\n | cat", AfterRemove: "true"}
		}), nil},
		{"changes", with(func(p *linuxpkg.Package) {
			p.Changes = []string{"it rings", "über alles", strings.Repeat("long ", 50)}
		}), nil},
	}
	for _, v := range []string{"0.0.1", "2026.11.23", "1.4.0-rc.1", "1.4.1-preview.3.g3f2a91c0", "1.0.0-alpha",
		"999999.0.0"} {
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
	if err := os.WriteFile(conf, []byte("[options]\nArchitecture = x86_64\nSigLevel = "+
		"Never\nLocalFileSigLevel = Never\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, a := range list {
		t.Run(a.name, func(t *testing.T) {
			t.Parallel()
			for _, format := range formats {
				p := a.p
				path := packagetest.Write(t, format, p, compressionOf(format))
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

func tools(t *testing.T, format linuxpkg.Format, path, conf string) {
	t.Helper()
	root := filepath.Join(t.TempDir(), "root")
	for _, dir := range []string{"var/lib/pacman", "var/lib/dpkg/updates", "var/lib/dpkg/info",
		"var/lib/dpkg/triggers", "tmp"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	installs := os.Getuid() == 0 && !strings.Contains(t.Name(), "script")
	switch format.Name() {
	case "deb":
		output(t, "dpkg-deb", "-I", path)
		output(t, "dpkg-deb", "-c", path)
		if installs {
			output(t, "dpkg", "--root="+root, "--force-unsafe-io", "-i", path)
			if out := output(t, "dpkg", "--root="+root, "--verify"); out != "" {
				t.Errorf("dpkg finds changed:\n%s", out)
			}
		}
	case "rpm":
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
	case "apk":
		output(t, "python3", "../../cmd/piedmont/testdata/apkcheck.py", path)
	case "arch":
		output(t, "pacman", "--config", conf, "-Qilp", path)
		if installs {
			args := []string{"--config", conf, "--root", root, "--dbpath",
				filepath.Join(root, "var/lib/pacman"), "--cachedir", filepath.Join(root, "tmp"), "--hookdir",
				filepath.Join(root, "tmp"), "--noconfirm"}
			output(t, "pacman", append(args, "-U", path)...)
			if out := output(t, "pacman", append(args, "-Qkk", "bell")...); !strings.Contains(out, "0 altered files") {
				t.Errorf("pacman finds changed:\n%s", out)
			}
		}
	}
}

// read reads a package, and gives the digests of its files' content.
func read(ctx context.Context, format linuxpkg.Format, path string) (*linuxpkg.Contents, map[string]string, error) {
	sums := map[string]string{}
	s, err := format.Read(ctx, path, func(e archive.Entry, r io.Reader) error {
		h := sha256.New()
		_, err := io.Copy(h, r)
		sums[plainPath(e)] = hex.EncodeToString(h.Sum(nil))
		return err
	})
	return s, sums, err
}

// compressionOf is that of a format's files where nothing else is chosen.
func compressionOf(f linuxpkg.Format) string {
	if c := f.Layout().Compression; c != "" {
		return c
	}
	return "gz"
}

func plainPath(i archive.Entry) string { return strings.Trim(strings.TrimPrefix(i.Path, "./"), "/") }

func readBack(t *testing.T, format linuxpkg.Format, path string, p linuxpkg.Package) {
	t.Helper()
	s, sums, err := read(t.Context(), format, path)
	if err != nil {
		t.Errorf("%s: %v", format.Name(), err)
		return
	}
	if v, err := format.Version(p.Version); err != nil || s.Name != p.Name || !strings.Contains(s.Version, v) {
		t.Errorf("%s: %s %s was read back", format.Name(), s.Name, s.Version)
	}
	have := map[string]archive.Entry{}
	for _, i := range s.Files {
		have[plainPath(i)] = i
	}
	for _, f := range p.Files {
		i, ok := have[f.Path]
		if !ok || i.Link != f.Link || (f.Mode.IsRegular() && i.Size != f.Size) ||
			(f.Link == "" && archive.UnixMode(i.Mode) != archive.UnixMode(f.Mode)) {
			t.Errorf("%s: %s was read back as %+v", format.Name(), f.Path, i)
			return
		}
		if f.Mode.IsRegular() && sums[f.Path] != f.SHA256 {
			t.Errorf("%s: %s has another content: %s", format.Name(), f.Path, sums[f.Path])
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
	p := packagetest.Holding(packagetest.File("opt/f", lines(700000), 0o644), packagetest.File("opt/g", "ring",
		0o644), packagetest.File("opt/h", lines(70000), 0o644))
	conf := filepath.Join(t.TempDir(), "pacman.conf")
	if err := os.WriteFile(conf, []byte("[options]\nArchitecture = x86_64\nSigLevel = "+
		"Never\nLocalFileSigLevel = Never\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	testclient.Need(t, "dpkg-deb")
	testclient.Need(t, "rpm")
	testclient.Need(t, "pacman")
	for _, c := range []string{"xz", "zst", "gz"} {
		for _, format := range []linuxpkg.Format{deb.Format{}, rpm.Format{}, alpm.Format{}} {
			path := packagetest.Write(t, format, p,
				strings.Replace(c, "gz", map[bool]string{true: "zst", false: "gz"}[format.Name() == "arch"], 1))
			tools(t, format, path, conf)
			readBack(t, format, path, p)
		}
	}
}

// A payload that does not hold what the header says is told as damaged.
func TestDamagedPayloads(t *testing.T) {
	path := packagetest.Write(t, rpm.Format{}, packagetest.Holding(packagetest.File("opt/f", "ring", 0o644),
		packagetest.Link("opt/g", "f")), "gz")
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
		if _, _, err := read(t.Context(), rpm.Format{}, path); err == nil || !strings.Contains(err.Error(), "damaged") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzReadPackages(f *testing.F) {
	p := packagetest.Holding(packagetest.File("usr/bin/bell", "ring", 0o755), packagetest.Link("usr/bin/gong", "bell"))
	for i, format := range formats {
		data, err := os.ReadFile(packagetest.Write(f, format, p, compressionOf(format)))
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
		_, _, _ = read(t.Context(), formats[(format%4+4)%4], path) // whatever comes, it neither crashes nor hangs
	})
}
