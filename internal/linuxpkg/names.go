package linuxpkg

import (
	"fmt"
	"regexp"
	"strings"

	"piedmont/internal/base/platform"
)

// NameRule is what a format allows as a name.
type NameRule struct {
	Format string
	Form   *regexp.Regexp
	Rule   string
	Source string // where that is written
}

var notPlain = regexp.MustCompile(`[^a-z0-9+.-]+`)

// Check says which rule a name breaks, and proposes one.
func (r NameRule) Check(name string) error {
	if r.Form.MatchString(name) {
		return nil
	}
	text := fmt.Sprintf("%q cannot be the name of a package of the format %s, which allows %s (%s)", name,
		r.Format, r.Rule, r.Source)
	proposal := strings.Trim(notPlain.ReplaceAllString(strings.ToLower(name), "-"), "-.+")
	if r.Form.MatchString(proposal) {
		text += fmt.Sprintf("; %q would be one", proposal)
	}
	return fmt.Errorf("%s", text)
}

// CheckRevision says whether a format can have that revision.
func CheckRevision(format string, form *regexp.Regexp, revision string) error {
	if form.MatchString(revision) {
		return nil
	}
	return fmt.Errorf("%q cannot be the revision of a package of the format %s; \"1\" would be one", revision, format)
}

// Archs are a format's names of processors, by arch or arch/variant as platforms
// write them, and "" for what is for every one.
type Archs map[string]string

// Of names a platform. Where there is no name for a variant that only asks for
// more of the same processor, the name is that of the processor.
func (a Archs) Of(format string, on platform.Platform) (string, error) {
	if on.OS == "" {
		return a[""], nil
	}
	if on.OS != "linux" {
		return "", fmt.Errorf("packages of the format %s are for Linux, and not for %s; choose the "+
			"platforms with \"platforms\"", format, on)
	}
	key := on.Arch
	if on.Variant != "" {
		key += "/" + on.Variant
	}
	if name := a[key]; name != "" {
		return name, nil
	}
	if name := a[on.Arch]; name != "" && on.Arch != "arm" {
		return name, nil
	}
	return "", fmt.Errorf("no distribution with packages of the format %s has a name for %s; leave the "+
		"platform or the format out", format, on)
}
