package exe

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

// Every ELF file of this system, as readelf and file see it.
func TestAgreesWithTools(t *testing.T) {
	testclient.Need(t, "readelf")
	testclient.Need(t, "file")
	var files []string
	for _, pattern := range []string{"/usr/bin/*", "/usr/sbin/*", "/usr/lib/x86_64-linux-gnu/*.so.*",
		"/usr/*-linux-gnu*/lib/*.so.*", "/usr/*-linux-gnu*/bin/*", "/usr/lib/gcc*/*/*/*.o"} {
		found, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, found...)
	}
	var elfs []string
	infos := map[string]*Info{}
	for _, f := range files {
		info := examineFile(t, f)
		if info != nil && info.Format == ELF {
			elfs = append(elfs, f)
			infos[f] = info
		}
	}
	if len(elfs) < 100 {
		t.Skipf("only %d ELF files are here", len(elfs))
	}
	for batch := range slices.Chunk(elfs, 200) {
		seen := readelf(t, batch)
		types := fileSays(t, batch)
		for _, f := range batch {
			compareELF(t, f, infos[f], seen[f], types[f])
		}
	}
	t.Logf("%d ELF files", len(elfs))
}

func examineFile(t *testing.T, path string) *Info {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil || !st.Mode().IsRegular() {
		return nil
	}
	info, err := Examine(f, st.Size())
	if err != nil && err != ErrNotBinary {
		t.Errorf("%s: %v", path, err)
	}
	return info
}

func readelf(t *testing.T, files []string) map[string]string {
	t.Helper()
	out, err := exec.Command("readelf", append([]string{"-W", "-h", "-l", "-d", "-V", "-n", "-S"},
		files...)...).Output()
	if err != nil && len(out) == 0 {
		t.Fatal(err)
	}
	parts := map[string]string{}
	for _, part := range bytes.Split(out, []byte("\nFile: "))[1:] {
		name, rest, _ := strings.Cut(string(part), "\n")
		parts[name] = rest
	}
	return parts
}

func fileSays(t *testing.T, files []string) map[string]string {
	t.Helper()
	out, err := exec.Command("file", append([]string{"-L", "-N", "-F", "\t"}, files...)...).Output()
	if err != nil {
		t.Fatal(err)
	}
	parts := map[string]string{}
	for _, line := range strings.Split(string(out), "\n") {
		name, rest, _ := strings.Cut(line, "\t")
		parts[name] = rest
	}
	return parts
}

var (
	neededLine   = regexp.MustCompile(`\(NEEDED\)\s+Shared library: \[(.*)\]`)
	interpreted  = regexp.MustCompile(`Requesting program interpreter: (.*)\]`)
	buildIDLine  = regexp.MustCompile(`Build ID: ([0-9a-f]+)`)
	stackLine    = regexp.MustCompile(`GNU_STACK\s+\S+ \S+ \S+ \S+ \S+ (...)`)
	versionsLine = regexp.MustCompile(`Name: GLIBC_([0-9.]+)\s+Flags: (\S+)`)
	machines     = map[string]string{"Advanced Micro Devices X86-64": "amd64", "AArch64": "arm64", "ARM": "arm",
		"Intel 80386": "386", "RISC-V": "riscv64", "IBM S/390": "s390x", "PowerPC64": "ppc64le"}
)

func compareELF(t *testing.T, path string, i *Info, readelf, file string) {
	t.Helper()
	differ := func(what string, got, want any) {
		t.Errorf("%s: %s is %v here, and %v for the other tool", path, what, got, want)
	}
	var needs []string
	for _, m := range neededLine.FindAllStringSubmatch(readelf, -1) {
		needs = appendNew(needs, m[1])
	}
	if !slices.Equal(needs, i.Needs) {
		differ("what it needs", i.Needs, needs)
	}
	if m := interpreted.FindStringSubmatch(readelf); (m == nil) != (i.Interpreter == "") || m != nil &&
		m[1] != i.Interpreter {
		differ("the interpreter", i.Interpreter, m)
	}
	if m := buildIDLine.FindStringSubmatch(readelf); m != nil && m[1] != i.BuildID {
		differ("the build id", i.BuildID, m[1])
	}
	if m := stackLine.FindStringSubmatch(readelf); m != nil && (strings.Contains(m[1], "E")) == i.Hardening.NX {
		differ("NX", i.Hardening.NX, m[1])
	}
	highest := ""
	for _, m := range versionsLine.FindAllStringSubmatch(readelf, -1) {
		if m[2] != "WEAK" && CompareNumbers(m[1], highest) > 0 {
			highest = m[1]
		}
	}
	if highest != i.LibcAtLeast {
		differ("the glibc version", i.LibcAtLeast, highest)
	}
	for name, arch := range machines {
		if regexp.MustCompile(`Machine:\s+`+regexp.QuoteMeta(name)+`\n`).MatchString(readelf) &&
			i.Arch != arch && !strings.HasPrefix(i.Arch, arch+" ") {
			differ("the architecture", i.Arch, name)
		}
	}
	if relro := strings.Contains(readelf, "GNU_RELRO"); relro == (i.Hardening.RELRO == "none") && i.Type != Object {
		differ("RELRO", i.Hardening.RELRO, relro)
	}
	now := strings.Contains(readelf, "BIND_NOW") || regexp.MustCompile(`Flags:.*\bNOW\b`).MatchString(readelf)
	if i.Hardening.RELRO == "full" && !now && strings.Contains(readelf, "Dynamic section at") {
		differ("RELRO", "full", "lazy")
	}
	if got, want := i.Stripped, !strings.Contains(file, "not stripped"); got != want &&
		strings.Contains(file, "stripped") {
		differ("stripped", got, file)
	}
	if got, want := i.DebugInfo, strings.Contains(file, "with debug_info"); got != want {
		differ("debug information", got, file)
	}
	if static := strings.Contains(file, "statically linked") ||
		strings.Contains(file, "static-pie linked"); static != (i.Linkage == Static) && i.Type == Executable {
		differ("the linkage", i.Linkage, file)
	}
	if strings.Contains(file, "pie executable") && (i.Type != Executable || !i.Hardening.PIE) {
		differ("PIE", i.Type, file)
	}
	if bits := map[bool]int{true: 32, false: 64}[strings.Contains(file, "ELF 32-bit")]; bits != i.Bits {
		differ("the word size", i.Bits, file)
	}
	if msb := strings.Contains(file, " MSB "); msb != (i.Endian == "big") {
		differ("the byte order", i.Endian, file)
	}
}
