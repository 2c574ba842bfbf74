package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

// Wrong things are caught before anything is packed.
func TestExamineCatches(t *testing.T) {
	testclient.Need(t, "gcc")
	if here != "linux/amd64" {
		testclient.Lacking(t, "this looks at what linux/amd64 compilers make")
	}
	// A program as the native compiler makes it, with what is asked for.
	native := func(expect, more string) map[string]string {
		return map[string]string{
			"src/main.c": "#include <stdio.h>\n#include <pthread.h>\nint main(void) { puts(__FILE__); " +
				"return pthread_join == 0; }\n",
			"piedmont.toml": `[project]
name = "probe"
[program.probe]
language = "c"
source = "src"
platforms = ["linux/amd64"]
` + more + `
expect = { ` + expect + ` }
[bundle.probe]
programs = ["probe"]
`}
	}
	prebuilt := func(platform, source string, make func(t *testing.T, path string)) func(t *testing.T) string {
		return func(t *testing.T) string {
			dir := project(t, map[string]string{"piedmont.toml": `[project]
name = "probe"
[program.probe]
language = "prebuilt"
source = "` + source + `"
platforms = ["` + platform + `"]
[bundle.probe]
programs = ["probe"]
`, "made/.keep": ""})
			make(t, filepath.Join(dir, "made", "probe"))
			return dir
		}
	}
	compile := func(args ...string) func(t *testing.T, path string) {
		return func(t *testing.T, path string) {
			t.Helper()
			src := filepath.Join(t.TempDir(), "m.c")
			if err := os.WriteFile(src, []byte("int main(void) { return 0; }\n"), 0o644); err != nil {
				t.Fatal(err)
			}
			if out, err := command("gcc", append(args, "-o", path, src)...).CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
		}
	}
	of := func(files map[string]string) func(t *testing.T) string {
		return func(t *testing.T) string { return project(t, files) }
	}
	cases := []struct {
		name  string
		dir   func(t *testing.T) string
		tells []string // none: it is fine
	}{
		{"all is well", of(native(
			`linkage = "dynamic", libc-at-most = "2.40", largest = "1 MiB", stripped = true, `+
				`no-paths = true, needs-only = ["libc.so.6"]`, "")), nil},
		{"dynamic, static expected", of(native(`linkage = "static"`, "")),
			[]string{"probe: it is linked dynamically and needs libc.so.6", `linkage = "static" was expected`}},
		{"static, dynamic expected", of(native(`linkage = "dynamic"`, `link = "static"`)),
			[]string{"it is linked statically"}},
		{"too new a glibc", of(native(`libc-at-most = "2.17"`, "")),
			[]string{"it needs glibc 2.34, which first RHEL 9 has", `libc-at-most = "2.17" was expected`}},
		{"a debug build", of(native(`stripped = true`, "symbols = \"keep\"\nflags = [\"-g\"]")),
			[]string{"it has its symbol table, and stripped = true was expected"}},
		{"too large", of(native(`largest = "1 kB"`, "")), []string{"at most 1000 were expected (largest)"}},
		{"no version", of(native(`contains-version = true`, "")), []string{"the version stands nowhere in it"}},
		{"another library", of(native(`needs-only = []`, "")),
			[]string{"it needs libc.so.6, which needs-only does not list"}},
		{"a path inside", func(t *testing.T) string {
			files := native(`no-paths = true`, "")
			dir := project(t, files)
			write(t, dir, map[string]string{"src/main.c": "#include <stdio.h>\nint main(void) { puts(\"" + dir +
				"/src/main.c\"); return 0; }\n"})
			return dir
		}, []string{"it names folders of this machine, and no-paths = true was expected", "/src/main.c"}},
		{"amd64 declared as arm64", prebuilt("linux/arm64", "made/probe", compile()),
			[]string{"probe: it is for linux/amd64, and linux/arm64 was declared"}},
		{"amd64 declared as windows", prebuilt("windows/amd64", "made/probe", compile()),
			[]string{"it is for linux/amd64, and windows/amd64 was declared"}},
		{"v3 declared as v2", prebuilt("linux/amd64/v2", "made/probe",
			compile("-march=x86-64-v3", "-Wa,-mx86-used-note=yes", "-Wl,-z,x86-64-v3")),
			[]string{"it is for linux/amd64/v3, and linux/amd64/v2 was declared"}},
		{"an unusual loader", prebuilt("linux/amd64", "made/probe",
			compile("-Wl,--dynamic-linker=/opt/none/ld.so")),
			[]string{"it starts only where there is a loader /opt/none/ld.so", "/lib64/ld-linux-x86-64.so.2"}},
		{"prebuilt and well", prebuilt("linux/amd64", "made/prob*", compile("-s")), nil},
		{"damaged", prebuilt("linux/amd64", "made/probe", func(t *testing.T, path string) {
			if err := os.WriteFile(path, []byte("\x7fELF\x02\x01\x01"+strings.Repeat("\xff", 200)), 0o755); err != nil {
				t.Fatal(err)
			}
		}), []string{"this ELF file is damaged"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			dir := c.dir(t)
			r := call{dir: dir}.run(t, "make")
			outboxes, _ := filepath.Glob(filepath.Join(dir, "outbox", "*", "*"))
			if c.tells == nil {
				if r.code != 0 {
					t.Errorf("exit %d\n%s", r.code, r.err)
				}
				return
			}
			if r.code != 1 || len(outboxes) > 0 {
				t.Errorf("exit %d, and the outbox holds %v", r.code, outboxes)
			}
			contains(t, r.err, c.tells...)
		})
	}
}

// A wrong digest of a prebuilt file is told with both.
func TestPrebuiltDigest(t *testing.T) {
	dir := project(t, map[string]string{"dist/probe-linux": "#!/bin/sh\necho probe\n", "piedmont.toml": `[project]
name = "probe"
[program.probe]
language = "prebuilt"
source = "dist/probe-{os}"
platforms = ["linux/amd64"]
digest = { "linux/amd64" = "` + sha([]byte("other")) + `" }
[bundle.probe]
programs = ["probe"]
`})
	r := call{dir: dir}.run(t, "make")
	if r.code != 1 {
		t.Errorf("exit %d", r.code)
	}
	contains(t, r.err, "dist/probe-linux is another file than was declared",
		sha([]byte("#!/bin/sh\necho probe\n")), "[program.probe]")
}

// A platform without a compiler stops the work before it begins, or is left
// out where that is allowed.
func TestMissingCompiler(t *testing.T) {
	files := map[string]string{"src/m.c": "int main(void) { return 0; }\n", "piedmont.toml": `[project]
name = "probe"
[program.probe]
language = "c"
source = "src"
platforms = ["` + here + `", "linux/s390x", "linux/loong64"]
missing-compiler = "leave-out"
[bundle.probe]
programs = ["probe"]
`}
	testclient.Need(t, "gcc")
	dir := project(t, files)
	// No compiler but the system's own is on this PATH.
	bin := t.TempDir()
	for _, tool := range []string{"git", "gcc", "cc", "as", "ld", "go", "ar"} {
		if err := os.Symlink(testclient.Need(t, tool), filepath.Join(bin, tool)); err != nil {
			t.Fatal(err)
		}
	}
	c := call{dir: dir, env: []string{"PATH=" + bin}}
	for _, words := range [][]string{{"plan"}, {"make"}} {
		contains(t, c.ok(t, words...).out, "left out: probe for linux/s390x: there is no C compiler for "+
			"linux/s390x", "apt-get install gcc-s390x-linux-gnu libc6-dev-s390x-cross",
			"left out: probe for linux/loong64", `describe one with [toolchain.NAME] platforms = ["linux/loong64"]`)
	}
	contains(t, c.run(t, "ready").out, "advice    compilers", "probe is left out for linux/s390x")
	contains(t, c.ok(t, "show", "platforms").out, "linux/s390x", "What is missing on this machine",
		"apt-get install gcc-s390x-linux-gnu")

	write(t, dir, map[string]string{"piedmont.toml": strings.Replace(files["piedmont.toml"],
		`missing-compiler = "leave-out"`, "", 1)})
	r := c.run(t, "ready")
	contains(t, r.out, "obstacle  compilers", "there is no C compiler for linux/s390x",
		"there is no C compiler for linux/loong64")
	if r := c.run(t, "make"); r.code != 1 || !strings.Contains(r.err, "there is no C compiler for linux/s390x") {
		t.Errorf("exit %d\n%s", r.code, r.err)
	}
}
