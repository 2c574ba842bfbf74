// Package semver is what Piedmont asks of versions: SemVer 2.0, strictly.
package semver

import (
	"strings"

	"github.com/Masterminds/semver/v3"
)

// Valid says whether s is a version as SemVer 2.0 writes it.
func Valid(s string) bool {
	_, err := semver.StrictNewVersion(s)
	return err == nil
}

// Compare orders two versions by SemVer precedence; invalid ones sort first.
func Compare(a, b string) int {
	va, errA := semver.StrictNewVersion(a)
	vb, errB := semver.StrictNewVersion(b)
	switch {
	case errA != nil && errB != nil:
		return strings.Compare(a, b)
	case errA != nil:
		return -1
	case errB != nil:
		return 1
	}
	return va.Compare(vb)
}

// IsPrerelease says whether a version has a pre-release part, as previews do.
func IsPrerelease(s string) bool {
	v, err := semver.StrictNewVersion(s)
	return err == nil && v.Prerelease() != ""
}
