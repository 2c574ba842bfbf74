package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"piedmont/internal/base/testclient"
)

// compilers are Debian's, by platform.
var compilers = map[string]string{
	"linux/amd64": "gcc", "linux/arm64": "aarch64-linux-gnu-gcc", "linux/arm/v7": "arm-linux-gnueabihf-gcc",
	"linux/riscv64": "riscv64-linux-gnu-gcc", "linux/s390x": "s390x-linux-gnu-gcc",
	"windows/amd64": "x86_64-w64-mingw32-gcc",
}

// crossPlatforms are those that there is a compiler and an emulator for.
func crossPlatforms(t testing.TB) []string {
	t.Helper()
	if here != "linux/amd64" {
		testclient.Lacking(t, "the cross compilers are looked for on linux/amd64 only")
	}
	var out []string
	for on, compiler := range compilers {
		if _, err := exec.LookPath(compiler); err != nil {
			if os.Getenv("CI") != "" {
				t.Fatalf("%s is not installed", compiler)
			}
			t.Logf("without %s: %s is not installed", on, compiler)
			continue
		}
		out = append(out, `"`+on+`"`)
	}
	slices.Sort(out)
	return out
}

// bells is a C program of several files with a library, a C++ program, and two
// builds of a project's own.
func bells(platforms []string) map[string]string {
	list := strings.Join(platforms, ", ")
	return map[string]string{
		"signal/include/signal tone.h": "#ifndef TONE\n#define TONE\nint tone(int n);\n#endif\n",
		"signal/tone.c": "#include <math.h>\n#include \"signal tone.h\"\nint tone(int n) { " +
			"return (int)sqrt(n * 441.0 * 441.0 * n); }\n",
		"chime/bell.h": "const char *bell(void);\n",
		"chime/bell.c": "#include \"bell.h\"\nconst char *bell(void) { return __FILE__; }\n",
		"chime/main.c": "#include <stdio.h>\n#include \"signal tone.h\"\n#include " +
			"\"bell.h\"\nint main(int n, char **v) { printf(\"%s %d %d %s %s\\n\", CHIME_VERSION, tone(n), " +
			"(int)sizeof(void *), bell(), __DATE__); return ECHO; }\n",
		"tower/configure": "#!/bin/sh\nfor a; do case $a in --host=*) host=${a#*=};; " +
			"--prefix=*) prefix=${a#*=};; esac; done\nsed \"s|@prefix@|$prefix|;s|@host@|$host|\" " +
			"Makefile.in > Makefile\n",
		"tower/Makefile.in": "prefix = @prefix@\nall: tower libpeal.a\n%.o: %.c\n\t$(CC) $(CFLAGS) -c -o $@ " +
			"$<\ntower: tower.o\n\t$(CC) $(LDFLAGS) -static -o $@ $^\nlibpeal.a: peal.o\n\t$(AR) rcD $@ $^\n" +
			"install: all\n\tinstall -d $(DESTDIR)$(prefix)/bin $(DESTDIR)$(prefix)/lib\n\tinstall tower* " +
			"$(DESTDIR)$(prefix)/bin/\n\trm -f $(DESTDIR)$(prefix)/bin/*.c " +
			"$(DESTDIR)$(prefix)/bin/*.o\n\tinstall -m644 libpeal.a " +
			"$(DESTDIR)$(prefix)/lib/\n\techo for @host@ > $(DESTDIR)$(prefix)/lib/host\n\tln " +
			"-s host $(DESTDIR)$(prefix)/lib/target\n",
		"tower/tower.c": "#include <stdio.h>\nint main(void) { puts(\"the tower stands\"); return 0; }\n",
		"tower/peal.c":  "int peal(void) { return 3; }\n",
		"spire/CMakeLists.txt": "cmake_minimum_required(VERSION 3.16)\nproject(spire " +
			"CXX)\nadd_executable(spire spire.cc)\ntarget_link_options(spire PRIVATE " +
			"-static)\ninstall(TARGETS spire DESTINATION bin)\ninstall(FILES vane.txt DESTINATION share/spire)\n",
		"spire/spire.cc": "#include <iostream>\n#include <string>\nint main() { std::string " +
			"s(\"spire\"); std::cout << s << ' ' << s.size() << std::endl; }\n",
		"spire/vane.txt": "It turns.\n",
		"piedmont.toml": `[project]
name = "belfry"

[platforms]
bells = [` + list + `]
native = ["linux/amd64"]

[program.chime]
language   = "c"
source     = "chime"
needs      = ["signal"]
platforms  = "bells"
link       = "dynamic"
libraries  = ["m"]
stamp      = { CHIME_VERSION = "chime \"{version}\"" }
define     = { ECHO = "3" }
expect     = { linkage = "dynamic", stripped = true, no-paths = true, contains-version = true }

[program.still]
language   = "c"
source     = "chime"
needs      = ["signal"]
platforms  = "bells"
link       = "static"
libraries  = ["m"]
flags      = ["-g", "-O1"]
symbols    = "keep"
stamp      = { CHIME_VERSION = "still {version}" }
define     = { ECHO = "0" }
expect     = { linkage = "static", no-paths = true }

[program.signal]
language   = "c"
source     = "signal"
include    = ["signal/include"]
makes      = "library"
platforms  = "bells"

[program.tower]
language   = "command"
source     = "tower"
platforms  = "bells"
run        = [
  ["sh", "./configure", "--host={triplet}", "--prefix=/usr"],
  ["make", "-j{jobs}"],
  ["make", "install", "DESTDIR={stage}"],
]

[program.spire]
language   = "command"
source     = "spire"
platforms  = "native"
run        = [
  ["cmake", "-B", "build", "-DCMAKE_INSTALL_PREFIX=/usr"],
  ["cmake", "--build", "build"],
  ["cmake", "--install", "build"],
]
env        = { DESTDIR = "{stage}" }
file       = "usr/bin/spire"
expect     = { no-paths = true }

[bundle.chime]
programs = ["chime", "still"]
name     = "chime-{version}-{os}-{arch}{variant}"
formats  = { default = "tar.gz", windows = "zip" }

[bundle.tower]
trees    = [{ program = "tower", from = "usr", to = "tower" }]
name     = "tower-{version}-{os}-{arch}{variant}"

[bundle.spire]
trees    = [{ program = "spire", from = "usr" }]
name     = "spire-{version}"

[trial.answers]
bundle   = "chime"
run      = ["chime", "x"]
expect   = { status = 3, matches = "^chime \"1.0.0\" 882 [48] chime/bell.c May  2 2026\n" }
required = true

[trial.stands-still]
bundle   = "chime"
run      = ["still"]
expect   = { matches = "^still 1.0.0 441 [48] chime/bell.c May  2 2026\n" }
required = true

[trial.tower]
bundle   = "tower"
run      = ["tower/bin/tower"]
expect   = "the tower stands"
required = true

[trial.spire]
bundle   = "spire"
run      = ["bin/spire"]
expect   = "spire 5"
required = true
`,
	}
}

// C programs are built for every platform that Debian has a compiler for, and
// each gives the right answer where it is tried; twice, in two places, to the
// same bytes.
func TestCrossBuild(t *testing.T) {
	platforms := crossPlatforms(t)
	for _, tool := range []string{"make", "cmake", "qemu-aarch64-static", "wine"} {
		testclient.Need(t, tool)
	}
	one := project(t, bells(platforms))
	call{dir: one}.ok(t, "make")
	type tried struct {
		Passed   int `json:"passed"`
		NotTried int `json:"not_tried"`
		Trials   []struct {
			Trial, Platform, State, By string
			Offline                    bool
		} `json:"trials"`
	}
	r := call{dir: one}.ok(t, "try", "--json")
	got := decode[tried](t, r)
	if want := 3*len(platforms) + 1; got.Passed != want || got.NotTried != 0 {
		t.Errorf("%d trials passed, want %d\n%s", got.Passed, want, r.out)
	}
	for _, one := range got.Trials {
		if emulated := one.Platform != "linux/amd64"; emulated == (one.By == "this system") {
			t.Errorf("%s on %s was run by %s", one.Trial, one.Platform, one.By)
		}
	}

	two := filepath.Join(t.TempDir(), "a place with spaces", "and ünusual letters")
	if err := os.MkdirAll(filepath.Dir(two), 0o755); err != nil {
		t.Fatal(err)
	}
	git(t, filepath.Dir(two), "clone", "--quiet", one, two)
	call{dir: two, env: []string{"HOME=" + t.TempDir(), "XDG_CACHE_HOME=" + t.TempDir(), "TZ=Asia/Kathmandu",
		"CFLAGS=-O0", "CPATH=/nowhere", "USER=somebody"}}.ok(t, "make", "--jobs", "1")
	a, b := filepath.Join(one, "outbox", "1.0.0"), filepath.Join(two, "outbox", "1.0.0")
	if err := os.Remove(filepath.Join(a, "trials.json")); err != nil {
		t.Fatal(err)
	}
	sameTree(t, a, b)
}

// Go programs are tried on the same platforms, with and without C in them.
func TestCrossBuildGo(t *testing.T) {
	platforms := crossPlatforms(t)
	for _, tool := range []string{"qemu-aarch64-static", "wine"} {
		testclient.Need(t, tool)
	}
	with := slices.DeleteFunc(slices.Clone(platforms),
		func(s string) bool { return !slices.Contains([]string{`"linux/arm64"`, `"windows/amd64"`}, s) })
	dir := project(t, map[string]string{
		"go.mod": "module peal\n\ngo 1.22\n",
		"cmd/plain/m.go": "package main\n\nimport (\"fmt\"; \"runtime\")\n\nvar version string\n\nfunc " +
			"main() { fmt.Println(\"plain\", version, runtime.GOOS, runtime.GOARCH) }\n",
		"cmd/calls/m.go": "package main\n\n// int three(void) { return 3; }\nimport \"C\"\n\nimport " +
			"\"fmt\"\n\nfunc main() { fmt.Println(\"C says\", C.three()) }\n",
		"piedmont.toml": `[project]
name = "peal"
[program.plain]
language = "go"
source = "cmd/plain"
platforms = [` + strings.Join(platforms, ", ") + `]
stamp = { "main.version" = "{version}" }
expect = { linkage = "static", contains-version = true }
[program.calls]
language = "go"
source = "cmd/calls"
cgo = true
platforms = [` + strings.Join(with, ", ") + `]
[bundle.plain]
programs = ["plain"]
name = "plain-{version}-{os}-{arch}{variant}"
[bundle.calls]
programs = ["calls"]
name = "calls-{version}-{os}-{arch}"
[trial.plain]
bundle = "plain"
run = ["plain"]
expect = "plain {version} {os} {arch}"
[trial.calls]
bundle = "calls"
run = ["calls"]
expect = "C says 3"
`,
	})
	call{dir: dir}.ok(t, "make")
	// Debian's Wine lacks a library that Go's programs ask for: that is told
	// as a lack of Wine.
	if r := (call{dir: dir}).ok(t, "try", "--trial", "plain", "--platform",
		"windows/amd64"); !strings.Contains(r.out, "1 passed") {
		contains(t, r.out, "not tried", "Wine here has no bcryptprimitives.dll, which is a part of Windows")
	}
	// With that library, they run.
	r := call{dir: dir, env: []string{"WINEPREFIX=" + winePrefix(t)}}.ok(t, "try")
	if want := fmt.Sprintf("%d passed of %d trials", len(platforms)+len(with),
		len(platforms)+len(with)); !strings.Contains(r.out, want) {
		t.Errorf("not %s:\n%s", want, r.out)
	}
}

var prefixOnce = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(filepath.Dir(program), "wine")
	env := append(environment(), "WINEPREFIX="+dir, "WINEDEBUG=-all", "WINEDLLOVERRIDES=mscoree,mshtml=")
	for _, words := range [][]string{
		{"wine", "wineboot", "--init"},
		{"wineserver", "-w"},
		{"x86_64-w64-mingw32-gcc", "-shared", "-o", filepath.Join(dir, "drive_c", "windows", "system32",
			"bcryptprimitives.dll"), "testdata/bcryptprimitives.c", "-ladvapi32"},
	} {
		if words[0] == "wineserver" {
			if _, err := exec.LookPath("wineserver"); err != nil {
				words[0] = "/usr/lib/wine/wineserver64"
			}
		}
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Env = env
		if out, err := cmd.CombinedOutput(); err != nil {
			return "", fmt.Errorf("%v: %w\n%s", words, err, out)
		}
	}
	return dir, nil
})

// winePrefix is a folder of Wine with the library that Go's programs ask for,
// made of what Wine has.
func winePrefix(t testing.TB) string {
	t.Helper()
	dir, err := prefixOnce()
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

// Only what changed is compiled again, and headers count.
func TestOnlyChangedObjects(t *testing.T) {
	testclient.Need(t, "gcc")
	dir := project(t, map[string]string{
		"src/a.c": "#include \"deep/b.h\"\nint main(void) { return B; }\n", "src/c.c": "int c(void) { return 1; }\n",
		"inc/deep/b.h": "#define B 0\n",
		"piedmont.toml": `[project]
name = "objects"
[program.a]
language = "c"
source = "src"
include = ["over", "inc"]
platforms = ["` + here + `"]
[bundle.a]
programs = ["a"]
`, "over/none.h": "",
	})
	c := call{dir: dir}
	objects := func() map[string]int64 {
		t.Helper()
		c.ok(t, "make", "--quiet")
		found, err := filepath.Glob(filepath.Join(dir, ".piedmont", "objects", "*", "src", "*.o"))
		if err != nil || len(found) == 0 {
			t.Fatalf("no objects: %v", err)
		}
		times := map[string]int64{}
		for _, f := range found {
			info, err := os.Stat(f)
			if err != nil {
				t.Fatal(err)
			}
			times[filepath.Base(f)] = info.ModTime().UnixNano()
		}
		return times
	}
	before := objects()
	changes := []struct {
		name  string
		write map[string]string
		stale []string
	}{
		{"nothing", nil, nil},
		{"a source", map[string]string{"src/c.c": "int c(void) { return 2; }\n"}, []string{"c.c.o"}},
		{"a header", map[string]string{"inc/deep/b.h": "#define B 1\n"}, []string{"a.c.o"}},
		{"a header that is found before another", map[string]string{"over/deep/b.h": "#define B 2\n"},
			[]string{"a.c.o"}},
		{"a header that nobody reads", map[string]string{"inc/lonely.h": "#define L 1\n"}, nil},
		{"a new source", map[string]string{"src/d.cc": "int d() { return 4; }\n"}, []string{"d.cc.o"}},
	}
	for _, change := range changes {
		write(t, dir, change.write)
		after := objects()
		var stale []string
		for name, at := range after {
			if before[name] != at {
				stale = append(stale, name)
			}
		}
		if !slices.Equal(stale, change.stale) {
			t.Errorf("after changing %s, these were compiled: %v, want %v", change.name, stale, change.stale)
		}
		before = after
	}
	out := filepath.Join(t.TempDir(), "out")
	if err := os.Mkdir(out, 0o755); err != nil {
		t.Fatal(err)
	}
	archives, err := filepath.Glob(filepath.Join(dir, "outbox", "*", "objects-*.tar.gz"))
	if err != nil || len(archives) == 0 {
		t.Fatal(err)
	}
	newest := slices.MaxFunc(archives, func(a, b string) int {
		x, _ := os.Stat(a)
		y, _ := os.Stat(b)
		return x.ModTime().Compare(y.ModTime())
	})
	if text, err := command("tar", "xf", newest, "-C", out).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	err = command(filepath.Join(out, "a")).Run()
	if code := err.(*exec.ExitError).ExitCode(); code != 2 {
		t.Errorf("the program was made from an old header: it says %d, want 2", code)
	}
}
