package version

import (
	"fmt"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
)

func TestSpell(t *testing.T) {
	for v, want := range map[string]string{
		"1.4.0":                           "1.4.0 1.4.0 1.4.0 1.4.0",
		"1.4.0+build.5":                   "1.4.0 1.4.0 1.4.0 1.4.0",
		"1.4.0-rc.1":                      "1.4.0~rc1 1.4.0~rc1 1.4.0rc1 1.4.0_rc1",
		"1.4.0-rc1":                       "1.4.0~rc1 1.4.0~rc1 1.4.0rc1 1.4.0_rc1",
		"1.4.0-alpha":                     "1.4.0~alpha 1.4.0~alpha 1.4.0alpha 1.4.0_alpha0",
		"1.4.1-preview.3.g3f2a91c0.dirty": "1.4.1~preview3.g3f2a91c0.dirty 1.4.1~preview3.g3f2a91c0.dirty 1.4.1preview3.g3f2a91c0.dirty 1.4.1_pre3",
		"1.4.0-rc.1.preview.2.g3f2a91c0":  "1.4.0~rc1.preview2.g3f2a91c0 1.4.0~rc1.preview2.g3f2a91c0 1.4.0rc1.preview2.g3f2a91c0 1.4.0_rc1_p2",
	} {
		var got []string
		for _, format := range []string{Deb, RPM, Arch, APK} {
			s, err := Spell(format, v)
			if err != nil {
				t.Errorf("%s for %s: %v", v, format, err)
			}
			got = append(got, s)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: got %s, want %s", v, got, want)
		}
	}
	for _, bad := range []string{"1.4", "v1.4.0", "1.4.0-5", "1.4.0-rc-1"} {
		for _, format := range []string{Deb, RPM, Arch, APK} {
			if s, err := Spell(format, bad); err == nil {
				t.Errorf("%s for %s: %s", bad, format, s)
			}
		}
	}
	if _, err := Spell(APK, "1.4.0-nightly.1"); err == nil || !strings.Contains(err.Error(), "alpha, beta, pre and rc") {
		t.Errorf("a word that apk does not know: %v", err)
	}
}

// table are versions in their SemVer order, no two of one rank.
func table() []string {
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
	slices.SortFunc(out, Compare)
	return out
}

// more are pre-releases with words that begin each other; apk does not know them.
func more() []string {
	var out []string
	for _, core := range []string{"1.4.0", "1.5.0"} {
		out = append(out, core)
		for _, word := range []string{"a", "ab", "alpha", "alphabet", "b", "dev", "devel", "pre", "preview", "r", "rc", "rcx"} {
			for _, n := range []string{"", ".1", ".2", ".10", ".1.x", ".2.x.3"} {
				out = append(out, core+"-"+word+n)
			}
		}
	}
	slices.SortFunc(out, Compare)
	return out
}

// pairs are neighbours and others, as indexes i < j.
func pairs(n, others int) [][2]int {
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

func spelled(t *testing.T, format string, versions []string) []string {
	t.Helper()
	out := make([]string, len(versions))
	for i, v := range versions {
		s, err := Spell(format, v)
		if err != nil {
			t.Fatal(err)
		}
		out[i] = s
	}
	return out
}

func TestDebOrder(t *testing.T) {
	dpkg := testclient.Need(t, "dpkg")
	for _, versions := range [][]string{spelled(t, Deb, table()), spelled(t, Deb, more())} {
		var script strings.Builder
		for _, p := range pairs(len(versions), 300) {
			fmt.Fprintf(&script, "%s --compare-versions '%s' lt '%s' || echo '%[2]s is not before %[3]s'\n", dpkg, versions[p[0]], versions[p[1]])
		}
		cmd := exec.Command("sh")
		cmd.Stdin = strings.NewReader(script.String())
		if out, err := cmd.CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%v\n%s", err, out)
		}
	}
}

func TestRPMOrder(t *testing.T) {
	rpm := testclient.Need(t, "rpm")
	for _, versions := range [][]string{spelled(t, RPM, table()), spelled(t, RPM, more())} {
		for some := range slices.Chunk(pairs(len(versions), 2000), 500) { // an argument has its limits
			var script strings.Builder
			script.WriteString("%{lua:\n")
			for _, p := range some {
				fmt.Fprintf(&script, "if rpm.vercmp('%s','%s') ~= -1 then print('%[1]s is not before %[2]s\\n') end\n", versions[p[0]], versions[p[1]])
			}
			script.WriteString("}")
			out, err := exec.Command(rpm, "--eval", script.String()).CombinedOutput()
			if err != nil || strings.TrimSpace(string(out)) != "" {
				t.Errorf("%v\n%.2000s", err, out)
			}
		}
	}
}

// comparer asks pacman's own library, whose comparison vercmp prints; Debian
// has the library without that program.
const comparer = `#include <stdio.h>
int alpm_pkg_vercmp(const char *a, const char *b);
int main(void) {
	char a[256], b[256];
	while (scanf("%255s %255s", a, b) == 2)
		if (alpm_pkg_vercmp(a, b) != -1) printf("%s is not before %s\n", a, b);
	return 0;
}
`

func TestArchOrder(t *testing.T) {
	cc := testclient.Need(t, "cc")
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "c.c"), []byte(comparer), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(cc, "-o", filepath.Join(dir, "c"), filepath.Join(dir, "c.c"), "-lalpm").CombinedOutput(); err != nil {
		testclient.Lacking(t, "libalpm cannot be linked: "+string(out))
	}
	for _, versions := range [][]string{spelled(t, Arch, table()), spelled(t, Arch, more())} {
		var in strings.Builder
		for _, p := range pairs(len(versions), 5000) {
			fmt.Fprintln(&in, versions[p[0]], versions[p[1]])
		}
		cmd := exec.Command(filepath.Join(dir, "c"))
		cmd.Stdin = strings.NewReader(in.String())
		if out, err := cmd.CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%v\n%.2000s", err, out)
		}
	}
}
