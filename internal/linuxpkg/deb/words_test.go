package deb

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
	"piedmont/internal/linuxpkg/packagetest"
)

func TestVersionOrder(t *testing.T) {
	dpkg := testclient.Need(t, "dpkg")
	for _, versions := range [][]string{packagetest.Spelled(t, Format{}, packagetest.Versions()),
		packagetest.Spelled(t, Format{}, packagetest.MoreVersions())} {
		var script strings.Builder
		for _, p := range packagetest.Pairs(len(versions), 300) {
			fmt.Fprintf(&script, "%s --compare-versions '%s' lt '%s' || echo '%[2]s is not before %[3]s'\n",
				dpkg, versions[p[0]], versions[p[1]])
		}
		cmd := exec.Command("sh")
		cmd.Stdin = strings.NewReader(script.String())
		if out, err := cmd.CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%v\n%s", err, out)
		}
	}
}

// The bytes are pinned: the same package is the same file with every version of
// Piedmont, or "pack" in the keys of steps must change.
func TestGoldenBytes(t *testing.T) { packagetest.Golden(t, Format{}, "gz", "a246289cdd50ebf6") }

// What fails leaves nothing running.
func TestFailureLeavesNothing(t *testing.T) { packagetest.Leaks(t, Format{}, "gz") }
