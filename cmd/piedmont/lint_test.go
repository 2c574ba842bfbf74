package main

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

var (
	lintianLine = regexp.MustCompile(`(?m)^[EWI]: \S+: (\S+)`)
	rpmlintLine = regexp.MustCompile(`(?m)^\S+: [EW]: (\S+)`)
	explained   = regexp.MustCompile("`([a-z-]+)`")
)

// Strict checkers find nothing in the sample project's packages that the manual
// does not explain, and the manual explains nothing that they do not find.
func TestStrictCheckers(t *testing.T) {
	lintian, rpmlint := testclient.Need(t, "lintian"), testclient.Need(t, "rpmlint")
	dir := hutbell(t)
	call{dir: dir}.ok(t, "make")
	box := filepath.Join(dir, "outbox", "1.4.0")
	manual, err := os.ReadFile("../../docs/packages.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, ok := strings.Cut(string(manual), "| tag | why |")
	if !ok {
		t.Fatal("the manual has no list")
	}
	var known, found []string
	for _, row := range strings.Split(table, "\n") {
		first, _, _ := strings.Cut(strings.TrimPrefix(row, "|"), "|")
		for _, m := range explained.FindAllStringSubmatch(first, -1) {
			known = append(known, m[1])
		}
	}
	look := func(program string, line *regexp.Regexp, ending string) {
		files, err := filepath.Glob(filepath.Join(box, "*"+ending))
		if err != nil || len(files) < 2 {
			t.Fatal(files, err)
		}
		out, _ := command(program, files...).CombinedOutput() // its status only says that there are tags
		for _, m := range line.FindAllStringSubmatch(string(out), -1) {
			found = append(found, m[1])
			if !slices.Contains(known, m[1]) {
				t.Errorf("docs/packages.md does not explain this:\n%s", m[0])
			}
		}
		if !line.Match(out) && !strings.Contains(string(out), "0 errors") {
			t.Errorf("%s said nothing of use:\n%s", program, out)
		}
	}
	look(lintian, lintianLine, ".deb")
	look(rpmlint, rpmlintLine, ".rpm")
	for _, tag := range known {
		if !slices.Contains(found, tag) {
			t.Errorf("the manual explains %s, which no checker finds", tag)
		}
	}
}

// Each fault of a package is told before anything is made, with the rule and a
// way out.
func TestPackageFaults(t *testing.T) {
	const table = "[package.belld]"
	change := func(old, new string) map[string]string {
		files := belld("1.0.0")
		if !strings.Contains(files["piedmont.toml"], old) {
			t.Fatalf("nothing to replace: %s", old)
		}
		files["piedmont.toml"] = strings.Replace(files["piedmont.toml"], old, new, 1)
		return files
	}
	more := func(text string) map[string]string { return change(table, table+"\n"+text) }
	for name, c := range map[string]struct {
		files map[string]string
		tells []string
	}{
		"a name that deb cannot have": {more(`name = "Bell_d"`),
			[]string{`"Bell_d" cannot be the name of a package of the format deb`, "Debian Policy 5.6.1",
				`"bell-d" would be one`}},
		"a name of one letter": {more(`name = "b"`), []string{"two or more lower-case letters"}},
		"a name for one format": {more(`arch = { name = "-bell" }`),
			[]string{"format arch", "PKGBUILD(5)", `"bell" would be one`}},
		"a revision": {more(`revision = "1-2"`), []string{`"1-2" cannot be the revision`,
			`"1" would be one`}},
		"an unknown format": {change(`"apk", "arch"]`, `"apk", "ipk"]`),
			[]string{`unknown package format "ipk"`, `did you mean "apk"?`}},
		"an unknown relation": {change(`"base-system >= 0.5.0"`, `"base-system => 0.5.0"`),
			[]string{"is not a relation", `"hutline-tools >= 1.2"`}},
		"alternatives for apk": {change(`"base-system >= 0.5.0"`, `"a | b"`),
			[]string{"format apk have no alternatives (a | b)", "[package.belld.apk]"}},
		"a file twice": {
			change(`files = [`, `files = [{ from = "LICENSE", to = "/usr/bin/belld" }, `),
			[]string{"two files would be /usr/bin/belld"}},
		"no such file": {change(`pkg/belld.conf"`, `pkg/bell.conf"`),
			[]string{`package "belld": there is no file pkg/bell.conf`}},
		"no such script": {change(`"pkg/ai.sh"`, `"pkg/none.sh"`),
			[]string{"there is no file pkg/none.sh", "[package.belld]"}},
		"no such moment": {change(`after-install =`, `after-instal =`),
			[]string{`unknown script "after-instal"`, `did you mean "after-install"?`}},
		"no such unit": {change(`"pkg/belld.service"`, `"pkg/none.service"`),
			[]string{"there is no file pkg/none.service"}},
		"a place that is relative": {change(`to = "/etc/belld/belld.conf"`, `to = "etc/belld.conf"`),
			[]string{`"etc/belld.conf" is no place on a system`}},
		"a place that goes up": {change(`to = "/etc/belld/belld.conf"`, `to = "/etc/../belld.conf"`),
			[]string{"is no place on a system"}},
		"a mode": {change(`mode = "0750"`, `mode = "rwx"`), []string{`"rwx" is not a mode`}},
		"an owner": {change(`owner = "belld"`, `owner = "Bell D"`),
			[]string{`"Bell D" cannot be the name of a user`}},
		"a user": {change(`{ name = "belld", home`, `{ name = "0; rm", home`),
			[]string{`"0; rm" cannot be the name of a user`}},
		"kept outside of /etc": {change(`to = "/etc/belld/belld.conf", keep`,
			`to = "/opt/belld.conf", keep`), []string{"apk keeps what was changed below /etc only"}},
		"no maintainer": {change(`maintainer = "Ridge Signals <release@hutbell.example.org>"`,
			""), []string{"says who is responsible"}},
		"no licence": {change(`license = "Apache-2.0"`, ""), []string{"it says no licence"}},
		"no summary": {change(`summary = "Rings a bell"`, ""),
			[]string{"a package says what it is"}},
		"a manual page without section": {change(`"man/belld.8"`, `"LICENSE"`), []string{"does not end in a section"}},
		"a unit without Install": {func() map[string]string {
			f := belld("1.0.0")
			f["pkg/belld.service"] = "[Service]\nExecStart=/usr/bin/belld\n"
			return f
		}(), []string{"has no section [Install]", "WantedBy=multi-user.target"}},
		"a script for another shell": {func() map[string]string {
			f := belld("1.0.0")
			f["pkg/ai.sh"] = "#!/bin/bash\n"
			return f
		}(), []string{"pkg/ai.sh", "write it for /bin/sh"}},
		"a system without packages": {func() map[string]string {
			f := change(`platforms = ["linux/amd64"]`, `platforms = ["linux/amd64", "darwin/arm64"]`)
			f["piedmont.toml"] = strings.Replace(f["piedmont.toml"], table, table+"\nplatforms = [\"darwin/arm64\"]", 1)
			return f
		}(), []string{"are for Linux, and not for darwin/arm64"}},
		"an architecture that a distribution lacks": {change(`platforms = ["linux/amd64"]`,
			`platforms = ["linux/arm/v5"]`), []string{"format apk has a name for linux/arm/v5",
			"leave the platform or the format out"}},
	} {
		t.Run(name, func(t *testing.T) {
			r := call{dir: project(t, c.files)}.run(t, "plan")
			if r.code != 2 {
				t.Errorf("exit %d\n%s", r.code, r.err)
			}
			contains(t, r.err, c.tells...)
		})
	}
}

// A version that a format cannot carry is told with the rule.
func TestPackageVersions(t *testing.T) {
	dir := project(t, belld("1.0.0"))
	git(t, dir, "tag", "--delete", "v1.0.0")
	git(t, dir, "tag", "v1.0.0-nightly.1")
	r := call{dir: dir}.run(t, "plan")
	if r.code != 2 {
		t.Errorf("exit %d\n%s", r.code, r.err)
	}
	contains(t, r.err, "apk packages cannot carry the version 1.0.0-nightly.1", "alpha, beta, pre and rc")
}

// Libraries that programs were found to need become needs.
func TestAutoNeeds(t *testing.T) {
	testclient.Need(t, "gcc")
	if here != "linux/amd64" {
		testclient.Lacking(t, "this looks at what linux/amd64 compilers make")
	}
	dir := project(t, map[string]string{"src/m.c": "#include <stdio.h>\n#include <math.h>\n" +
		"int main(int n, char **v) { printf(\"%f\\n\", sqrt(n)); return 0; }\n",
		"piedmont.toml": `[project]
name = "probe"
summary = "Probes"
license = "Apache-2.0"
maintainer = "Ines <ines@ridge-signals.example>"
[program.probe]
language = "c"
source = "src"
libraries = ["m"]
platforms = ["linux/amd64"]
[package.probe]
formats = ["deb", "rpm", "apk", "arch"]
programs = ["probe"]
needs = ["auto"]
`})
	call{dir: dir}.ok(t, "make")
	for file, tells := range map[string]string{"probe_1.0.0-1_amd64.deb": "Depends",
		"probe-1.0.0-1.x86_64.rpm": "libm.so.6()(64bit)", "probe-1.0.0-r0.x86_64.apk": "so:libm.so.6",
		"probe-1.0.0-1-x86_64.pkg.tar.zst": "glibc"} {
		contains(t, call{dir: dir}.ok(t, "show", filepath.Join("outbox", "1.0.0", file)).out, tells, "usr/bin/probe")
	}
	contains(t, call{dir: dir}.ok(t, "show", "outbox/1.0.0/probe_1.0.0-1_amd64.deb").out, "libc6 (>= 2.")
}
