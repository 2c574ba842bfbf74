package release

import (
	"piedmont/internal/base/semver"
)

// Release is a release where it is kept.
type Release struct {
	Record
	Manifest *Manifest
	Notes    []byte // Markdown, nil when the release has none
}

// Latest is the release that "latest" means: the highest version that is no
// pre-release, else the highest of all. The highest comes first in the list.
func Latest(list []Release) (Release, bool) {
	for _, r := range list {
		if !semver.IsPrerelease(r.Manifest.Version) {
			return r, true
		}
	}
	if len(list) == 0 {
		return Release{}, false
	}
	return list[0], true
}

// HighestFirst orders releases as lists of them are.
func HighestFirst(a, b Release) int { return semver.Compare(b.Manifest.Version, a.Manifest.Version) }
