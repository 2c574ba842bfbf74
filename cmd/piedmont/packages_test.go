package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

// belld is a service in four formats, with packages that stand for what a
// scratch root lacks.
func belld(version string) map[string]string {
	events := func(moment string) string {
		return "#!/bin/sh\necho \"" + version + " " + moment + " $1\" >> /events\n"
	}
	return map[string]string{
		"prog/belld":     "#!/bin/sh\necho belld " + version + "\n",
		"pkg/belld.conf": "# of " + version + "\nvolume = 3\n",
		"pkg/bi.sh":      events("before-install"),
		"pkg/ai.sh":      events("after-install"),
		"pkg/br.sh":      events("before-remove"),
		"pkg/ar.sh":      events("after-remove"),
		"pkg/belld.service": "[Unit]\nDescription=Bell\n[Service]\nExecStart=/usr/bin/belld\n" +
			"[Install]\nWantedBy=multi-user.target\n",
		"pkg/belld.openrc": "#!/sbin/openrc-run\ncommand=/usr/bin/belld\n",
		"man/belld.8":      ".TH BELLD 8\n.SH NAME\nbelld \\- a bell\n",
		"LICENSE":          "Free for all.\n",
		"piedmont.toml": `[project]
name = "belld"
summary = "Rings a bell"
homepage = "https://hutbell.example.org"
license = "Apache-2.0"
maintainer = "Ridge Signals <release@hutbell.example.org>"
releases = "https://releases.example.org/{project}/{version}/"

[program.belld]
language = "prebuilt"
source = "prog/belld"
platforms = ["linux/amd64"]

[package.belld]
formats = ["deb", "rpm", "apk", "arch"]
programs = ["belld"]
description = """
Rings when something is to be heard.

 indented
.dotted"""
files = [{ from = "pkg/belld.conf", to = "/etc/belld/belld.conf", keep = true }]
folders = [{ to = "/var/lib/belld", owner = "belld", group = "belld", mode = "0750" }]
links = { "/usr/bin/gong" = "belld" }
users = [{ name = "belld", home = "/var/lib/belld", comment = "Rings" }]
service = "pkg/belld.service"
openrc = "pkg/belld.openrc"
man = ["man/belld.8"]
licenses = ["LICENSE"]
needs = ["base-system >= 0.5.0"]
suggests = ["hutbell"]
conflicts = ["old-bell"]
replaces = ["old-bell < 0.9.0"]
provides = ["bell"]
scripts.before-install = "pkg/bi.sh"
scripts.after-install = "pkg/ai.sh"
scripts.before-remove = "pkg/br.sh"
scripts.after-remove = "pkg/ar.sh"

# What every system has and a scratch root has not.
[package.base-system]
formats = ["deb", "rpm", "arch"]
provides = ["passwd"]
rpm = { provides = ["/bin/sh"] }
`,
	}
}

// builds makes the packages of two versions and gives the outboxes.
func builds(t testing.TB, versions ...string) (string, []string) {
	t.Helper()
	dir := project(t, belld("1.0.0"))
	var out []string
	for i, v := range versions {
		write(t, dir, belld(v))
		if i > 0 {
			git(t, dir, "add", "--all")
			git(t, dir, "commit", "--quiet", "--message", "feat: version "+v)
			git(t, dir, "tag", "v"+v)
		}
		call{dir: dir}.ok(t, "make")
		out = append(out, filepath.Join(dir, "outbox", v))
	}
	return dir, out
}

// scratch is the root of a system with a shell and not much more.
func scratch(t testing.TB) string {
	t.Helper()
	if os.Getuid() != 0 {
		testclient.Lacking(t, "a scratch root can be made by the superuser only")
	}
	busybox := testclient.Need(t, "busybox")
	root := t.TempDir()
	for _, dir := range []string{"bin", "sbin", "usr/bin", "usr/sbin", "tmp", "etc", "var/lib/dpkg/info",
		"var/lib/dpkg/updates", "var/lib/dpkg/triggers", "var/lib/pacman", "var/cache/apt/archives/partial",
		"var/lib/apt/lists/partial", "etc/apt/preferences.d", "etc/apt/apt.conf.d", "var/log"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	write(t, root, map[string]string{
		"var/lib/dpkg/status": "", "etc/passwd": "root:x:0:0:root:/root:/bin/sh\n", "etc/group": "root:x:0:\n",
		"dev/null": "",
		"usr/sbin/groupadd": "#!/bin/sh\nfor name; do :; done\ngrep -q \"^$name:\" /etc/group || echo " +
			"\"$name:x:77:\" >> /etc/group\n",
		"usr/sbin/useradd": "#!/bin/sh\nfor name; do :; done\necho \"$name:x:77:77::/:/bin/false\" >> /etc/passwd\n",
	})
	data, err := os.ReadFile(busybox)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(root, "bin/busybox"), data, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, applet := range strings.Fields("sh echo grep id cat rm mkdir chown test true false ls chmod bash") {
		if applet == "bash" {
			continue
		}
		if err := os.Symlink("busybox", filepath.Join(root, "bin", applet)); err != nil {
			t.Fatal(err)
		}
	}
	for _, script := range []string{"groupadd", "useradd"} {
		if err := os.Chmod(filepath.Join(root, "usr/sbin", script), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

// tool runs a program that must succeed.
func tool(t testing.TB, name string, args ...string) string {
	t.Helper()
	out, err := command(testclient.Need(t, name), args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
	return string(out)
}

// client is an installer at work in a root.
type client struct {
	install, upgrade, remove func(files ...string)
	verify                   func() string // what it finds changed
	left                     string        // what becomes of a changed configuration file on removal
}

// life is what every package goes through.
func life(t *testing.T, root, ending string, c client) {
	t.Helper()
	_, boxes := builds(t, "1.0.0", "1.1.0")
	file := func(box int, name string) string {
		t.Helper()
		found, err := filepath.Glob(filepath.Join(boxes[box], name+"?1.*"+ending))
		if err != nil || len(found) != 1 {
			t.Fatalf("%s*%s: %v", name, ending, found)
		}
		return found[0]
	}
	read := func(path string) string {
		data, err := os.ReadFile(filepath.Join(root, path))
		if err != nil {
			return err.Error()
		}
		return string(data)
	}
	c.install(file(0, "base-system"))
	c.install(file(0, "belld"))
	contains(t, read("usr/bin/belld"), "belld 1.0.0")
	contains(t, read("etc/belld/belld.conf"), "of 1.0.0")
	contains(t, read("etc/passwd"), "belld:x:77:77")
	kept := filepath.Join(root, "var/lib/belld")
	info, err := os.Stat(kept)
	if err != nil || info.Mode().Perm() != 0o750 {
		t.Errorf("the folder of the service: %v, %v", info, err)
	} else if out := strings.TrimSpace(tool(t, "stat", "-c", "%u:%g", kept)); out != "77:77" {
		t.Errorf("the folder belongs to %s", out)
	}
	if link, err := os.Readlink(filepath.Join(root, "usr/bin/gong")); link != "belld" {
		t.Errorf("the link leads to %q, %v", link, err)
	}
	if got := c.verify(); got != "" {
		t.Errorf("after the installation: %s", got)
	}
	write(t, root, map[string]string{"etc/belld/belld.conf": "volume = 11\n"})
	c.upgrade(file(1, "belld"))
	contains(t, read("usr/bin/belld"), "belld 1.1.0")
	if got := read("etc/belld/belld.conf"); got != "volume = 11\n" {
		t.Errorf("the upgrade overwrote the configuration: %q", got)
	}
	c.remove("belld")
	if _, err := os.Stat(filepath.Join(root, "usr/bin/belld")); err == nil {
		t.Error("the program is still there")
	}
	if c.left != "" {
		contains(t, read(c.left), "volume = 11")
	}
	want := "1.0.0 before-install install\n1.0.0 after-install install\n1.1.0 before-install upgrade\n1.1.0 " +
		"after-install upgrade\n1.1.0 before-remove remove\n1.1.0 after-remove remove\n"
	if got := read("events"); got != want {
		t.Errorf("the scripts were run like this:\n%s", got)
	}
}

func TestDpkg(t *testing.T) {
	root := scratch(t)
	dpkg := func(args ...string) string {
		return tool(t, "dpkg", append([]string{"--root=" + root}, args...)...)
	}
	life(t, root, ".deb", client{
		install: func(files ...string) { dpkg(append([]string{"-i"}, files...)...) },
		upgrade: func(files ...string) {
			dpkg(append([]string{"--force-confdef", "--force-confold", "-i"},
				files...)...)
		},
		remove: func(names ...string) { dpkg(append([]string{"-r"}, names...)...) },
		verify: func() string { return dpkg("--verify", "belld") },
		left:   "etc/belld/belld.conf",
	})
	dpkg("-P", "belld")
}

func TestApt(t *testing.T) {
	root := scratch(t)
	_, boxes := builds(t, "1.0.0")
	testclient.Need(t, "dpkg-scanpackages")
	scan := command("dpkg-scanpackages", ".")
	scan.Dir = boxes[0]
	packages, err := scan.Output()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	found, err := filepath.Glob(filepath.Join(boxes[0], "*.deb"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range found {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		write(t, folder, map[string]string{filepath.Base(f): string(data)})
	}
	write(t, folder, map[string]string{"Packages": string(packages)})
	write(t, root, map[string]string{"etc/apt/sources.list": "deb [trusted=yes] file:" + folder + " ./\n"})
	apt := func(args ...string) string {
		o := []string{}
		for _, option := range []string{"Dir=" + root, "Dir::State::status=" + root + "/var/lib/dpkg/status",
			"Dir::Bin::dpkg=/usr/bin/dpkg", "DPkg::Options::=--root=" + root, "APT::Sandbox::User=root",
			"Dir::Log=" + root + "/var/log", "DPkg::Use-Pty=0", "DPkg::Path=" + os.Getenv("PATH")} {
			o = append(o, "-o", option)
		}
		return tool(t, "apt-get", append(o, args...)...)
	}
	apt("update")
	out := apt("install", "-y", "--no-install-recommends", "belld")
	if strings.Contains(out, "W:") {
		t.Errorf("apt warns:\n%s", out)
	}
	if _, err := os.Stat(filepath.Join(root, "usr/bin/belld")); err != nil {
		t.Error(err)
	}
	apt("remove", "-y", "belld")
}

func TestRpm(t *testing.T) {
	root := scratch(t)
	rpm := func(args ...string) string { return tool(t, "rpm", append([]string{"--root=" + root}, args...)...) }
	rpm("--initdb")
	life(t, root, ".rpm", client{
		install: func(files ...string) { rpm(append([]string{"-i"}, files...)...) },
		upgrade: func(files ...string) { rpm(append([]string{"-U"}, files...)...) },
		remove:  func(names ...string) { rpm(append([]string{"-e"}, names...)...) },
		verify:  func() string { return rpm("-V", "belld") },
		left:    "etc/belld/belld.conf.rpmsave",
	})
}

func TestDnf(t *testing.T) {
	root := scratch(t)
	_, boxes := builds(t, "1.0.0")
	files, err := filepath.Glob(filepath.Join(boxes[0], "*.rpm"))
	if err != nil || len(files) != 2 {
		t.Fatal(files, err)
	}
	dnf := func(args ...string) {
		tool(t, "dnf", append([]string{"--installroot=" + root, "--releasever=1", "--disablerepo=*",
			"--disableplugin=*", "--setopt=reposdir=" + root + "/none", "--setopt=cachedir=" + root +
				"/var/cache/dnf", "--setopt=gpgcheck=0", "-y"}, args...)...)
	}
	dnf(append([]string{"install"}, files...)...)
	if _, err := os.Stat(filepath.Join(root, "usr/bin/belld")); err != nil {
		t.Error(err)
	}
	dnf("remove", "belld")
	if _, err := os.Stat(filepath.Join(root, "usr/bin/belld")); err == nil {
		t.Error("dnf did not remove the program")
	}
}

func TestPacman(t *testing.T) {
	root := scratch(t)
	conf := filepath.Join(t.TempDir(), "pacman.conf")
	write(t, filepath.Dir(conf), map[string]string{"pacman.conf": "[options]\nArchitecture = " +
		"x86_64\nSigLevel = Never\nLocalFileSigLevel = Never\n"})
	pacman := func(args ...string) string {
		return tool(t, "pacman",
			append([]string{"--root", root, "--dbpath", filepath.Join(root, "var/lib/pacman"), "--cachedir",
				filepath.Join(root, "tmp"), "--hookdir", filepath.Join(root, "tmp"), "--config", conf,
				"--noconfirm"}, args...)...)
	}
	warned := func(out string) {
		if strings.Contains(out, "warning") && !strings.Contains(out, ".pacnew") &&
			!strings.Contains(out, ".pacsave") || strings.Contains(out, "error") {
			t.Errorf("pacman says:\n%s", out)
		}
	}
	life(t, root, ".pkg.tar.zst", client{
		install: func(files ...string) { warned(pacman(append([]string{"-U"}, files...)...)) },
		upgrade: func(files ...string) { warned(pacman(append([]string{"-U"}, files...)...)) },
		remove:  func(names ...string) { warned(pacman(append([]string{"-R"}, names...)...)) },
		verify: func() string {
			out := pacman("-Qkk", "belld")
			if strings.Contains(out, "0 altered files") {
				return ""
			}
			return out
		},
		left: "etc/belld/belld.conf.pacsave",
	})
}

// The independent check takes ours and refuses a dozen damaged ones.
func TestApk(t *testing.T) {
	python := testclient.Need(t, "python3")
	_, boxes := builds(t, "1.0.0")
	good := filepath.Join(boxes[0], "belld-1.0.0-r0.x86_64.apk")
	check := func(path string) (string, error) {
		out, err := command(python, "testdata/apkcheck.py", path).CombinedOutput()
		return string(out), err
	}
	out, err := check(good)
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	contains(t, out, "pkgname = belld", "pkgver = 1.0.0-r0", "arch = x86_64", "depend = base-system>=0.5.0",
		"depend = !old-bell", "replaces = old-bell<0.9.0", "provides = bell", "etc/init.d/belld",
		"usr/bin/gong", "var/lib/belld")
	if strings.Contains(out, "systemd") {
		t.Error("a unit of systemd is in a package for Alpine")
	}
	for name, spoil := range spoilers {
		t.Run(name, func(t *testing.T) {
			data, err := os.ReadFile(good)
			if err != nil {
				t.Fatal(err)
			}
			bad := filepath.Join(t.TempDir(), "bad.apk")
			if err := os.WriteFile(bad, spoil(t, data), 0o644); err != nil {
				t.Fatal(err)
			}
			if out, err := check(bad); err == nil {
				t.Errorf("it was accepted:\n%s", out)
			}
		})
	}
}

// What was declared is what each format's own reader says.
func TestPackageMetadata(t *testing.T) {
	_, boxes := builds(t, "1.0.0")
	box := boxes[0]
	deb := tool(t, "dpkg-deb", "-f", filepath.Join(box, "belld_1.0.0-1_amd64.deb"))
	contains(t, deb, "Package: belld\n", "Version: 1.0.0-1\n", "Architecture: amd64\n",
		"Maintainer: Ridge Signals <release@hutbell.example.org>\n", "Depends: base-system (>= 0.5.0)\n",
		"Suggests: hutbell\n",
		"Conflicts: old-bell\n", "Replaces: old-bell (<< 0.9.0)\n", "Provides: bell\n",
		"Homepage: https://hutbell.example.org\n",
		"Description: Rings a bell\n Rings when something is to be heard.\n .\n  indented\n  .dotted")
	rpm := tool(t, "rpm", "-qp", "--qf",
		"%{NAME}|%{VERSION}|%{RELEASE}|%{ARCH}|%{SUMMARY}|%{LICENSE}|%{URL}|%{PACKAGER}|%{OBSOLETES}|"+
			"%{CHANGELOGTEXT}\n%{DESCRIPTION}\n"+
			"[%{FILENAMES} %{FILEMODES:perms} %{FILEUSERNAME}:%{FILEGROUPNAME} %{FILEFLAGS:fflags}\n]",
		filepath.Join(box, "belld-1.0.0-1.x86_64.rpm"))
	contains(t, rpm, "belld|1.0.0|1|x86_64|Rings a bell|Apache-2.0|https://hutbell.example.org|Ridge "+
		"Signals <release@hutbell.example.org>|old-bell", "\n\n indented\n.dotted",
		"/etc/belld/belld.conf -rw-r--r-- root:root cn",
		"/usr/share/licenses/belld/LICENSE -rw-r--r-- root:root l",
		"/usr/share/man/man8/belld.8.gz -rw-r--r-- root:root d", "/var/lib/belld drwxr-x--- belld:belld")
	pacman := tool(t, "pacman", "-Qip", filepath.Join(box, "belld-1.0.0-1-x86_64.pkg.tar.zst"))
	contains(t, pacman, "Name            : belld", "Version         : 1.0.0-1", "Architecture    : x86_64",
		"Licenses        : Apache-2.0", "Depends On      : base-system>=0.5.0", "Optional Deps   : hutbell",
		"Provides        : bell", "Conflicts With  : old-bell", "Replaces        : old-bell<0.9.0",
		"Install Script  : Yes")
}

// The plan tells what packages will hold, and their relations as each format has them.
func TestPlanTellsPackages(t *testing.T) {
	files := belld("1.0.0")
	files["piedmont.toml"] = strings.Replace(files["piedmont.toml"], `needs = ["base-system >= 0.5.0"]`,
		`needs = ["base-system >= 0.5.0", "auto"]`, 1)
	dir := project(t, files)
	r := call{dir: dir}.ok(t, "plan", "--verbose")
	contains(t, r.out, "belld 1.0.0-1  deb for amd64", "/etc/belld/belld.conf",
		"pkg/belld.conf, kept by upgrades", "belld:belld", "link to belld",
		"needs base-system (>= 0.5.0), and what its programs need", "conflicts old-bell",
		"replaces old-bell (<< 0.9.0)", "needs base-system>=0.5.0", "provides bell")
	type answer struct {
		Packages []struct {
			Format, Package string
			Relations       map[string][]string
		}
	}
	for _, p := range decode[answer](t, call{dir: dir}.ok(t, "plan", "--json")).Packages {
		want := map[string]string{"deb": "base-system (>= 0.5.0)", "rpm": "base-system >= 0.5.0",
			"apk": "base-system>=0.5.0", "arch": "base-system>=0.5.0"}[p.Format]
		if p.Package == "belld" && strings.Join(p.Relations["needs"], ", ") != want {
			t.Errorf("%s: %v", p.Format, p.Relations)
		}
	}
}

// laid is what a tool of others finds in a package.
type laid struct{ mode, owner, link, sha256 string }

// byOthers lists a package's files with the tools of its format, or with bsdtar.
func byOthers(t *testing.T, format, file string) map[string]laid {
	t.Helper()
	found := map[string]laid{}
	if format == "rpm" {
		list := tool(t, "rpm", "-qp", "--qf",
			"[%{FILENAMES}|%{FILEMODES:octal}|%{FILEUSERNAME}:%{FILEGROUPNAME}|%{FILELINKTOS}|%{FILEDIGESTS}\n]", file)
		for line := range strings.Lines(list) {
			f := strings.Split(strings.TrimSpace(line), "|")
			if len(f) != 5 {
				t.Fatalf("rpm prints %q", line)
			}
			found[f[0]] = laid{"0" + f[1][len(f[1])-3:], f[2], f[3], f[4]}
		}
		return found
	}
	if format == "deb" {
		tar := filepath.Join(t.TempDir(), "data.tar")
		if err := os.WriteFile(tar, []byte(tool(t, "dpkg-deb", "--fsys-tarfile", file)), 0o644); err != nil {
			t.Fatal(err)
		}
		file = tar
	}
	out := t.TempDir()
	tool(t, "bsdtar", "-C", out, "--no-same-owner", "-xf", file)
	for line := range strings.Lines(tool(t, "bsdtar", "-tvf", file)) {
		f := strings.Fields(line) // perms, links, user, group, size, three of the time, path [-> link]
		if len(f) < 9 {
			t.Fatalf("bsdtar prints %q", line)
		}
		path := strings.Trim(strings.TrimPrefix(f[8], "."), "/")
		if f[0][0] != 'd' && !strings.Contains(path, "/") {
			continue // about the package
		}
		one := laid{mode: octal(f[0]), owner: f[2] + ":" + f[3]}
		switch {
		case len(f) > 10:
			one.link = f[10]
		case f[0][0] == '-':
			data, err := os.ReadFile(filepath.Join(out, f[8]))
			if err != nil {
				t.Fatal(err)
			}
			one.sha256 = sha(data)
		}
		found["/"+path] = one
	}
	return found
}

// octal turns the letters of permissions into digits.
func octal(letters string) string {
	n := 0
	for _, c := range letters[1:10] {
		n <<= 1
		if c != '-' {
			n |= 1
		}
	}
	return fmt.Sprintf("%04o", n)
}

// Lists, modes, owners and digests of every format agree with the manifest, in
// both directions.
func TestManifestOfPackages(t *testing.T) {
	_, boxes := builds(t, "1.0.0")
	type manifest struct {
		Files []struct {
			Name    string
			Package *struct{ Format string }
			Holds   []struct{ Path, Mode, Owner, SHA256, Link string }
		}
	}
	seen := map[string]int{}
	for _, f := range decode[manifest](t, call{}.ok(t, "show", filepath.Join(boxes[0], "manifest.json"),
		"--json")).Files {
		if f.Package == nil {
			continue
		}
		have := byOthers(t, f.Package.Format, filepath.Join(boxes[0], f.Name))
		for _, h := range f.Holds {
			seen[f.Package.Format]++
			path := strings.TrimSuffix(h.Path, "/")
			want := laid{h.Mode, h.Owner, h.Link, h.SHA256}
			if got := have[path]; got != want {
				t.Errorf("%s: %s is %+v, and %+v in the manifest", f.Name, path, got, want)
			}
			delete(have, path)
		}
		for path, one := range have {
			if one.sha256 != "" || one.link != "" {
				t.Errorf("%s: the manifest knows nothing of %s", f.Name, path)
			}
		}
	}
	for _, format := range []string{"deb", "rpm", "apk", "arch"} {
		if seen[format] < 7 {
			t.Errorf("%d entries of %s were compared", seen[format], format)
		}
	}
}
