// Package version turns what git knows into the version of a release: SemVer
// 2.0, and previews for everything that is not a tagged, clean commit.
package version

import (
	"fmt"
	"strings"

	"github.com/Masterminds/semver/v3"
)

// History is what git knows about the tags around HEAD.
type History struct {
	Commit   string   // full commit id of HEAD
	Here     []string // tags on HEAD
	Last     string   // the nearest tag before HEAD that is a version, or ""
	Distance int      // commits since Last, or since the beginning
	Dirty    bool     // whether tracked files differ or untracked ones exist
	// Declared is the version that a file of the project carries, "" where the
	// tag is the source.
	Declared string
	Source   string // where Declared stands, for messages
}

// Release is a version with where it comes from.
type Release struct {
	Version string
	Tag     string // the tag of Version, also when a preview has not got one
	Preview bool
	Reason  Reason // for a preview: what keeps it from being a release
	Why     string // the same in words
}

// Reason is what keeps a commit from being a release.
type Reason int

// The reasons.
const (
	None      Reason = iota
	Untagged         // HEAD carries no version tag
	Dirty            // the tree has changes that are not committed
	Different        // a file of the project says another version than the tag
)

// Pattern splits a tag form such as "v{version}" around its placeholder.
type Pattern struct{ before, after string }

// ParsePattern reads a tag form; it must hold {version} once.
func ParsePattern(s string) (Pattern, error) {
	if strings.Count(s, "{version}") != 1 {
		return Pattern{}, fmt.Errorf("a tag form holds {version} exactly once, as in \"v{version}\"")
	}
	before, after, _ := strings.Cut(s, "{version}")
	if strings.ContainsAny(before+after, "{} ~^:?*[\\") {
		return Pattern{}, fmt.Errorf("a tag form holds {version} and characters that git allows in a tag")
	}
	return Pattern{before, after}, nil
}

// Tag is the tag of a version.
func (p Pattern) Tag(version string) string { return p.before + version + p.after }

// Glob matches every tag of this form in git's own pattern language.
func (p Pattern) Glob() string { return p.before + "*" + p.after }

// Version reads the version out of a tag; nil when it is no tag of this form.
func (p Pattern) Version(tag string) *semver.Version {
	if len(tag) < len(p.before)+len(p.after) || !strings.HasPrefix(tag, p.before) || !strings.HasSuffix(tag, p.after) {
		return nil
	}
	v, err := semver.StrictNewVersion(tag[len(p.before) : len(tag)-len(p.after)])
	if err != nil {
		return nil
	}
	return v
}

// Highest picks the tag of the highest version among those of this form.
func (p Pattern) Highest(tags []string) (string, *semver.Version) {
	var best *semver.Version
	var name string
	for _, tag := range tags {
		if v := p.Version(tag); v != nil && (best == nil || v.GreaterThan(best)) {
			best, name = v, tag
		}
	}
	return name, best
}

// Decide gives the version of HEAD: the highest version tagged there when the
// tree is clean and no file says another, else a preview that sorts before the
// release that comes next.
func Decide(h History, p Pattern) Release {
	tag, here := p.Highest(h.Here)
	if here != nil && !h.Dirty && (h.Declared == "" || h.Declared == here.String()) {
		return Release{Version: here.String(), Tag: tag}
	}
	base, distance := here, 0
	reason, why := Dirty, "the tree has changes that are not committed"
	if base == nil {
		base, distance = p.Version(h.Last), h.Distance
		if !h.Dirty {
			reason, why = Untagged, "HEAD carries no version tag"
		}
	} else if !h.Dirty {
		reason, why = Different, fmt.Sprintf("HEAD is tagged %s, but %s says %s", tag, h.Source, h.Declared)
	}
	next := ""
	switch declared, err := semver.StrictNewVersion(h.Declared); {
	case err == nil && (base == nil || declared.GreaterThan(base)):
		// The file names the release to come: 1.4.0-preview.3, 1.4.0-rc.1.preview.3.
		next = before(declared)
	case base != nil && base.Prerelease() != "":
		// After 1.4.0-rc.1 and before rc.2.
		next = fmt.Sprintf("%d.%d.%d-%s.preview", base.Major(), base.Minor(), base.Patch(), base.Prerelease())
	case base != nil:
		next = base.IncPatch().String() + "-preview"
	default:
		next = "0.0.1-preview"
		why += "; no earlier version is tagged"
	}
	v := fmt.Sprintf("%s.%d.g%s", next, distance, short(h.Commit))
	if h.Dirty {
		v += ".dirty"
	}
	return Release{Version: v, Tag: p.Tag(v), Preview: true, Reason: reason, Why: why}
}

// before is the beginning of previews that sort before v.
func before(v *semver.Version) string {
	core := fmt.Sprintf("%d.%d.%d", v.Major(), v.Minor(), v.Patch())
	if v.Prerelease() == "" {
		return core + "-preview"
	}
	// A longer pre-release would sort after it, so its last part is left out
	// and "0" sorts before whatever stood there.
	return core + "-0.preview"
}

func short(commit string) string { return commit[:min(8, len(commit))] }
