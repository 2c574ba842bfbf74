package apk

import (
	"strings"
	"testing"

	"piedmont/internal/linuxpkg/packagetest"
)

// apk knows few words for pre-releases and says which.
func TestUnknownWord(t *testing.T) {
	if _, err := (Format{}).Version("1.4.0-nightly.1"); err == nil ||
		!strings.Contains(err.Error(), "alpha, beta, pre and rc") {
		t.Errorf("a word that apk does not know: %v", err)
	}
}

// The bytes are pinned: the same package is the same file with every version of
// Piedmont, or "pack" in the keys of steps must change.
func TestGoldenBytes(t *testing.T) { packagetest.Golden(t, Format{}, "gz", "4cd0376a4942bb16") }

// What fails leaves nothing running.
func TestFailureLeavesNothing(t *testing.T) { packagetest.Leaks(t, Format{}, "gz") }
