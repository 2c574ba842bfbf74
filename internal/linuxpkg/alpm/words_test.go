package alpm

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
	"piedmont/internal/linuxpkg/packagetest"
)

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

func TestVersionOrder(t *testing.T) {
	cc := testclient.Need(t, "cc")
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "c.c"), []byte(comparer), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(cc, "-o", filepath.Join(dir, "c"), filepath.Join(dir, "c.c"),
		"-lalpm").CombinedOutput(); err != nil {
		testclient.Lacking(t, "libalpm cannot be linked: "+string(out))
	}
	for _, versions := range [][]string{packagetest.Spelled(t, Format{}, packagetest.Versions()),
		packagetest.Spelled(t, Format{}, packagetest.MoreVersions())} {
		var in strings.Builder
		for _, p := range packagetest.Pairs(len(versions), 5000) {
			fmt.Fprintln(&in, versions[p[0]], versions[p[1]])
		}
		cmd := exec.Command(filepath.Join(dir, "c"))
		cmd.Stdin = strings.NewReader(in.String())
		if out, err := cmd.CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%v\n%.2000s", err, out)
		}
	}
}

// The bytes are pinned: the same package is the same file with every version of
// Piedmont, or "pack" in the keys of steps must change.
func TestGoldenBytes(t *testing.T) { packagetest.Golden(t, Format{}, "zst", "d821003e8c6729e7") }

// What fails leaves nothing running.
func TestFailureLeavesNothing(t *testing.T) { packagetest.Leaks(t, Format{}, "zst") }
