package rpm

import (
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/base/testclient"
	"piedmont/internal/linuxpkg/packagetest"
)

func TestVersionOrder(t *testing.T) {
	rpm := testclient.Need(t, "rpm")
	for _, versions := range [][]string{packagetest.Spelled(t, Format{}, packagetest.Versions()),
		packagetest.Spelled(t, Format{}, packagetest.MoreVersions())} {
		for some := range slices.Chunk(packagetest.Pairs(len(versions), 2000), 500) { // an argument has its limits
			var script strings.Builder
			script.WriteString("%{lua:\n")
			for _, p := range some {
				fmt.Fprintf(&script, "if rpm.vercmp('%s','%s') ~= -1 then print('%[1]s is not before "+
					"%[2]s\\n') end\n", versions[p[0]], versions[p[1]])
			}
			script.WriteString("}")
			out, err := exec.Command(rpm, "--eval", script.String()).CombinedOutput()
			if err != nil || strings.TrimSpace(string(out)) != "" {
				t.Errorf("%v\n%.2000s", err, out)
			}
		}
	}
}

// The bytes are pinned: the same package is the same file with every version of
// Piedmont, or "pack" in the keys of steps must change.
func TestGoldenBytes(t *testing.T) { packagetest.Golden(t, Format{}, "gz", "9b88e4521a582601") }

// What fails leaves nothing running.
func TestFailureLeavesNothing(t *testing.T) { packagetest.Leaks(t, Format{}, "gz") }
