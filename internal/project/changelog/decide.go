package changelog

import (
	"fmt"

	"github.com/Masterminds/semver/v3"
)

// Weights of a change, in their order.
const (
	None  = "none"
	Patch = "patch"
	Minor = "minor"
	Major = "major"
)

var rank = map[string]int{None: 0, Patch: 1, Minor: 2, Major: 3}

// Kind says what commits of one type mean.
type Kind struct {
	Change  string // none, patch or minor
	Heading string // in the notes; "" leaves these commits out of them
}

// Rules say what commits mean.
type Rules struct {
	Kinds map[string]Kind // by type
	Order []string        // types in the order of their headings
	// Early is what a breaking change asks for before 1.0.0: minor or major.
	Early string
}

// DefaultRules are those of the convention, and what most projects add to it.
func DefaultRules() Rules {
	return Rules{
		Kinds: map[string]Kind{
			"feat": {Minor, "New"}, "fix": {Patch, "Mended"}, "perf": {Patch, "Faster"},
			"revert": {Patch, "Taken back"},
			"docs":   {None, ""}, "style": {None, ""}, "refactor": {None, ""}, "test": {None, ""},
			"build": {None, ""}, "ci": {None, ""}, "chore": {None, ""},
		},
		Order: []string{"feat", "fix", "perf", "revert"},
		Early: Minor,
	}
}

// weigh gives what one change asks for.
func (r Rules) weigh(c Change) string {
	if c.Breaking != "" {
		return Major
	}
	if k, ok := r.Kinds[c.Type]; ok {
		return k.Change
	}
	return None
}

// Decision is the version that comes next, with the reason.
type Decision struct {
	Change  string   // none, patch, minor or major
	Version string   // "" when nothing asks for a release
	Because []Change // the commits that asked for this much
	Early   bool     // a breaking change counted less, since the version is below 1.0.0
}

// Decide computes the version after last ("" when there is none yet).
func (r Rules) Decide(last string, list []Change) (Decision, error) {
	d := Decision{Change: None}
	for _, c := range list {
		switch w := r.weigh(c); {
		case rank[w] > rank[d.Change]:
			d.Change, d.Because = w, []Change{c}
		case w == d.Change && w != None:
			d.Because = append(d.Because, c)
		}
	}
	if last == "" {
		// A first release is the project's own wish, whatever the commits say.
		d.Version = "0.1.0"
		return d, nil
	}
	v, err := semver.StrictNewVersion(last)
	if err != nil {
		return d, fmt.Errorf("%q is not a version as SemVer 2.0 writes it", last)
	}
	change := d.Change
	if change == Major && v.Major() == 0 && r.Early != Major {
		change, d.Early = Minor, true
	}
	d.Version = bump(v, change)
	return d, nil
}

// bump gives the next version, "" for no change. A pre-release is followed by
// its release when that covers the change.
func bump(v *semver.Version, change string) string {
	if v.Prerelease() != "" && change != None {
		core, _ := v.SetPrerelease("")
		covered := change == Patch || (change == Minor && v.Patch() == 0) ||
			(change == Major && v.Patch() == 0 && v.Minor() == 0)
		if covered {
			return plain(core)
		}
		v = &core
	}
	var next semver.Version
	switch change {
	case Patch:
		next = v.IncPatch()
	case Minor:
		next = v.IncMinor()
	case Major:
		next = v.IncMajor()
	default:
		return ""
	}
	return plain(next)
}

func plain(v semver.Version) string { return fmt.Sprintf("%d.%d.%d", v.Major(), v.Minor(), v.Patch()) }

// As computes the version that a person asked for: major, minor, patch, rc, or
// a version itself. decided is what the commits ask for, which rc counts up to.
func As(wish, last string, decided Decision) (string, error) {
	if last == "" {
		last = "0.0.0"
	}
	v, err := semver.StrictNewVersion(last)
	if err != nil {
		return "", fmt.Errorf("%q is not a version as SemVer 2.0 writes it", last)
	}
	switch wish {
	case Patch, Minor, Major:
		return bump(v, wish), nil
	case "rc":
		var n int
		if _, err := fmt.Sscanf(v.Prerelease(), "rc.%d", &n); err == nil && v.Prerelease() == fmt.Sprintf("rc.%d", n) {
			core, _ := v.SetPrerelease("")
			if next := decided.Version; next == "" || next == plain(core) {
				return fmt.Sprintf("%s-rc.%d", plain(core), n+1), nil
			}
		}
		next := decided.Version
		if next == "" {
			next = bump(v, Patch)
		}
		return next + "-rc.1", nil
	}
	w, err := semver.StrictNewVersion(wish)
	if err != nil {
		return "", fmt.Errorf("--as takes major, minor, patch, rc or a version such as 1.4.0, not %q", wish)
	}
	if !w.GreaterThan(v) {
		return "", fmt.Errorf("%s is not newer than %s, the last release", wish, last)
	}
	return wish, nil
}
