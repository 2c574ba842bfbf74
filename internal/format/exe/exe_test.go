package exe

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/testclient"
)

// goProgram compiles a small Go program for a platform.
func goProgram(t testing.TB, on string, flags ...string) string {
	t.Helper()
	dir := t.TempDir()
	for name, content := range map[string]string{"go.mod": "module example.org/bell\n\ngo 1.22\n",
		"main.go": "package main\n\nfunc main() { println(\"bell\") }\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	p, err := platform.Parse(on)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("go", append(append([]string{"build", "-trimpath"}, flags...), "-o", "bell")...)
	cmd.Dir, cmd.Env = dir, append(append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=-buildvcs=false"), p.GoEnv()...)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return filepath.Join(dir, "bell")
}

func TestGoPrograms(t *testing.T) {
	for _, on := range []string{"linux/arm/v6", "linux/amd64/v3", "linux/s390x", "darwin/arm64",
		"windows/amd64", "freebsd/amd64"} {
		path := goProgram(t, on)
		info := examineFile(t, path)
		if info == nil || info.Platform() != on {
			t.Errorf("a program for %s is seen as one for %s", on, info.Platform())
			continue
		}
		want, err := platform.Parse(on)
		if err != nil {
			t.Fatal(err)
		}
		if why := Misfit(info, want); why != "" {
			t.Errorf("%s: %s", on, why)
		}
		if why := Misfit(info, platform.Platform{OS: "linux", Arch: "riscv64"}); why == "" {
			t.Errorf("%s passes for linux/riscv64", on)
		}
		if info.Linkage != Static {
			t.Errorf("%s: linkage %s, needs %v", on, info.Linkage, info.Needs)
		}
		compareGo(t, path, info)
		if info.Format == PE {
			comparePE(t, path, info)
		}
		if stripped := examineFile(t, goProgram(t, on, "-ldflags=-s -w")); info.Stripped ||
			!stripped.Stripped || stripped.DebugInfo {
			t.Errorf("%s: stripped is %v with symbols, and %v without; debug information is %v", on,
				info.Stripped, stripped.Stripped, stripped.DebugInfo)
		}
	}
}

// compareGo holds the answer against that of the Go tool.
func compareGo(t *testing.T, path string, i *Info) {
	t.Helper()
	out, err := exec.Command("go", "version", "-m", path).Output()
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(out), "\n")
	if i.Go == nil || !strings.HasSuffix(lines[0], ": "+i.Go.Version) {
		t.Errorf("%s: the Go version is %+v here, and %s", path, i.Go, lines[0])
		return
	}
	var deps []string
	for _, l := range lines {
		if f := strings.Fields(l); len(f) >= 3 && f[0] == "dep" {
			deps = append(deps, f[1]+" "+f[2])
		} else if len(f) >= 3 && f[0] == "=>" && len(deps) > 0 {
			deps[len(deps)-1] = f[1] + " " + f[2]
		}
	}
	if !slices.Equal(deps, i.Go.Modules) {
		t.Errorf("%s: modules are %v here, and %v", path, i.Go.Modules, deps)
	}
}

var (
	dllLine       = regexp.MustCompile(`DLL Name: (\S+)`)
	subsystemLine = regexp.MustCompile(`M(aj|in)orSubsystemVersion\s+(\d+)`)
)

// comparePE holds the answer against that of objdump.
func comparePE(t *testing.T, path string, i *Info) {
	t.Helper()
	out, err := exec.Command(testclient.Need(t, "x86_64-w64-mingw32-objdump"), "-p", path).Output()
	if err != nil {
		t.Fatal(err)
	}
	var needs []string
	for _, m := range dllLine.FindAllStringSubmatch(string(out), -1) {
		needs = appendNew(needs, m[1])
	}
	// In what the Go linker made, objdump looks into the wrong section.
	if !slices.Equal(needs, i.Needs) && !strings.Contains(string(out), "interpreted .zdebug_info") {
		t.Errorf("%s needs %v here, and %v", path, i.Needs, needs)
	}
	var version []string
	for _, m := range subsystemLine.FindAllStringSubmatch(string(out), -1) {
		version = append(version, m[2])
	}
	if strings.Join(version, ".") != i.SystemAtLeast {
		t.Errorf("%s: subsystem %s here, and %v", path, i.SystemAtLeast, version)
	}
	for word, got := range map[string]bool{"DYNAMIC_BASE": i.Hardening.PIE, "NX_COMPAT": i.Hardening.NX,
		"HIGH_ENTROPY_VA": i.Hardening.HighEntropy, "GUARD_CF": i.Hardening.ControlFlow} {
		if strings.Contains(string(out), word) != got {
			t.Errorf("%s: %s is %v here", path, word, got)
		}
	}
}

// Every Go program and PE file of this system, as the Go tool and objdump see it.
func TestAgreesOnWhatIsHere(t *testing.T) {
	testclient.Need(t, "x86_64-w64-mingw32-objdump")
	var compared int
	for _, pattern := range []string{"/usr/lib/gcc/x86_64-w64-mingw32/*/*.dll",
		"/usr/x86_64-w64-mingw32/lib/*.dll", "/usr/lib/x86_64-linux-gnu/wine/x86_64-windows/*.exe",
		"/usr/local/go/bin/*", "/usr/local/go/pkg/tool/*/*"} {
		found, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range found {
			info := examineFile(t, path)
			switch {
			case info == nil:
			case info.Format == PE:
				comparePE(t, path, info)
				compared++
			case info.Go != nil:
				compareGo(t, path, info)
				compared++
			}
		}
	}
	if compared == 0 {
		t.Skip("there are none")
	}
	t.Logf("%d files", compared)
}

// fat joins two Mach-O programs. Source: Mach-O headers, fat.h.
func fat(parts ...[]byte) []byte {
	out := binary.BigEndian.AppendUint32(nil, 0xcafebabe)
	out = binary.BigEndian.AppendUint32(out, uint32(len(parts)))
	at := uint32(0x4000)
	var places []uint32
	for _, p := range parts {
		o := binary.LittleEndian
		out = binary.BigEndian.AppendUint32(out, o.Uint32(p[4:]))
		out = binary.BigEndian.AppendUint32(out, o.Uint32(p[8:]))
		out = binary.BigEndian.AppendUint32(out, at)
		out = binary.BigEndian.AppendUint32(out, uint32(len(p)))
		out = binary.BigEndian.AppendUint32(out, 14)
		places = append(places, at)
		at = (at + uint32(len(p)) + 0x3fff) &^ 0x3fff
	}
	for i, p := range parts {
		out = append(out, make([]byte, int(places[i])-len(out))...)
		out = append(out, p...)
	}
	return out
}

func TestFatFile(t *testing.T) {
	var parts [][]byte
	for _, on := range []string{"darwin/amd64", "darwin/arm64"} {
		data, err := os.ReadFile(goProgram(t, on))
		if err != nil {
			t.Fatal(err)
		}
		parts = append(parts, data)
	}
	data := fat(parts...)
	info, err := Examine(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	if len(info.Slices) != 2 || info.Slices[1].Arch != "arm64" || info.Slices[1].Go == nil ||
		info.Slices[0].SystemAtLeast == "" {
		t.Errorf("%+v", info)
	}
	for _, on := range []platform.Platform{{OS: "darwin", Arch: "arm64"}, {OS: "darwin", Arch: "amd64"}} {
		if why := Misfit(info, on); why != "" {
			t.Error(why)
		}
	}
	if why := Misfit(info, platform.Platform{OS: "darwin", Arch: "ppc64"}); why == "" {
		t.Error("a fat file passes for everything")
	}
	class := []byte("\xca\xfe\xba\xbe\x00\x00\x00\x34 a class of Java")
	if _, err := Examine(bytes.NewReader(class), int64(len(class))); err != ErrNotBinary {
		t.Errorf("a Java class: %v", err)
	}
}

func TestScanner(t *testing.T) {
	long := strings.Repeat("x", 300<<10)
	cases := []struct {
		folders []string
		text    string
		want    []string
	}{
		{[]string{"/srv/hut"}, "a\x00/srv/hut/src/a.c\x00b", []string{"/srv/hut/src/a.c"}},
		{[]string{"/srv/hut/"}, "\x00/srv/hutland/a.c\x00/srv/hut\x00", []string{"/srv/hut"}},
		{[]string{"/srv/hut"}, long[:256<<10-5] + "/srv/hut/far.c\x00", []string{"/srv/hut/far.c"}},
		{[]string{"/"}, "/srv/hut", nil},
		{nil, "see /home/ines/src/a.c\n and https://example.org/home/pages/x", []string{"/home/ines/src/a.c"}},
		{nil, "/home/%s/x /home/x /Users/jorik/go/pkg/x.go C:\\Users\\jorik\\src",
			[]string{"/Users/jorik/go/pkg/x.go", `:\Users\jorik\src`}},
		{nil, "/root/go/pkg/mod/a.go\x00/root/go/pkg/mod/b.go", []string{"/root/go/pkg/mod/a.go"}},
	}
	for _, c := range cases {
		for _, size := range []int{1 << 20, 7, 4096} {
			s := NewScanner([]string{"1.4.0"}, c.folders)
			for chunk := range slices.Chunk([]byte(c.text+" 1.4.0"), size) {
				if _, err := s.Write(chunk); err != nil {
					t.Fatal(err)
				}
			}
			if size > 4096 && !slices.Equal(s.Paths(), c.want) {
				t.Errorf("%q in %v: %q", c.text[:min(len(c.text), 60)], c.folders, s.Paths())
			}
			if !s.Found(0) {
				t.Errorf("the version was not found in pieces of %d", size)
			}
		}
	}
}

func TestOldestSystem(t *testing.T) {
	for version, want := range map[string]string{"": "", "2.2.5": "RHEL 6", "2.28": "Debian 10, RHEL 8",
		"2.29": "Debian 11, Ubuntu 20.04", "2.34": "RHEL 9", "2.99": ""} {
		if got := OldestSystem(version); got != want {
			t.Errorf("glibc %s: %q, want %q", version, got, want)
		}
	}
}

func FuzzExamine(f *testing.F) {
	for _, on := range []string{"darwin/arm64", "windows/amd64"} {
		data, err := os.ReadFile(goProgram(f, on, "-ldflags=-s -w"))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data[:64<<10])
	}
	for _, path := range []string{"/bin/true", "/usr/lib/gcc-cross/arm-linux-gnueabihf/12/crtbegin.o",
		"/usr/aarch64-linux-gnu/lib/libdl.so.2", "/usr/lib/x86_64-linux-gnu/crt1.o"} {
		if data, err := os.ReadFile(path); err == nil && len(data) < 100<<10 {
			f.Add(data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		info, err := Examine(bytes.NewReader(data), int64(len(data)))
		if err == nil && (info.Format == "" || info.Arch == "" || info.Type == "") {
			t.Errorf("%+v", info)
		}
		if err == nil {
			Misfit(info, platform.Platform{OS: "linux", Arch: "arm64"})
		}
	})
}
