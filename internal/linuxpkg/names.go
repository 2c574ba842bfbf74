package linuxpkg

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"piedmont/internal/base/platform"
)

func itoa(n int) string { return strconv.Itoa(n) }

// nameRules are what each format allows as a name, with where that is written.
var nameRules = map[string]struct {
	form   *regexp.Regexp
	rule   string
	source string
}{
	Deb:  {regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+$`), "two or more lower-case letters, digits and + - . beginning with a letter or digit", "Debian Policy 5.6.1"},
	RPM:  {regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_+.~-]*$`), "letters, digits and _ + - . beginning with a letter, digit or _", "Fedora Packaging Guidelines, Naming"},
	APK:  {regexp.MustCompile(`^[a-z0-9_][a-z0-9_+.-]*$`), "lower-case letters, digits and _ + - . beginning with a letter, digit or _", "apk-package(5)"},
	Arch: {regexp.MustCompile(`^[a-z0-9@_+][a-z0-9@._+-]*$`), "lower-case letters, digits and @ . _ + - not beginning with a hyphen or dot", "PKGBUILD(5)"},
}

// CheckName says which rule of a format a name breaks, and proposes one.
func CheckName(format, name string) error {
	r := nameRules[format]
	if r.form.MatchString(name) {
		return nil
	}
	text := fmt.Sprintf("%q cannot be the name of a package of the format %s, which allows %s (%s)", name, format, r.rule, r.source)
	proposal := regexp.MustCompile(`[^a-z0-9+.-]+`).ReplaceAllString(strings.ToLower(name), "-")
	if proposal = strings.Trim(proposal, "-.+"); r.form.MatchString(proposal) {
		text += fmt.Sprintf("; %q would be one", proposal)
	}
	return fmt.Errorf("%s", text)
}

var revisionForms = map[string]*regexp.Regexp{
	Deb: regexp.MustCompile(`^[A-Za-z0-9+.~]+$`), RPM: regexp.MustCompile(`^[A-Za-z0-9._+~^]+$`), APK: regexp.MustCompile(`^[0-9]+$`), Arch: regexp.MustCompile(`^[0-9]+(\.[0-9]+)?$`),
}

// CheckRevision says whether a format can have that revision.
func CheckRevision(format, revision string) error {
	if revisionForms[format].MatchString(revision) {
		return nil
	}
	return fmt.Errorf("%q cannot be the revision of a package of the format %s; \"1\" would be one", revision, format)
}

// archs are the names of platforms in each format: Debian's ports, rpm's
// rpmrc, Alpine's and Arch's ports. "" in place of a platform has none.
var archs = map[string]map[string]string{
	Deb: {"amd64": "amd64", "386": "i386", "arm64": "arm64", "arm": "armhf", "arm/v7": "armhf", "arm/v6": "armhf", "arm/v5": "armel", "riscv64": "riscv64", "ppc64le": "ppc64el", "ppc64": "ppc64",
		"s390x": "s390x", "mips64le": "mips64el", "mipsle": "mipsel", "mips": "mips", "loong64": "loong64", "sparc64": "sparc64"},
	RPM: {"amd64": "x86_64", "amd64/v2": "x86_64_v2", "amd64/v3": "x86_64_v3", "amd64/v4": "x86_64_v4", "386": "i686", "arm64": "aarch64", "arm": "armv7hl", "arm/v7": "armv7hl", "arm/v6": "armv6hl", "arm/v5": "armv5tel",
		"riscv64": "riscv64", "ppc64le": "ppc64le", "ppc64": "ppc64", "s390x": "s390x", "mips64le": "mips64el", "mipsle": "mipsel", "mips": "mips", "loong64": "loongarch64", "sparc64": "sparc64"},
	APK:  {"amd64": "x86_64", "386": "x86", "arm64": "aarch64", "arm": "armv7", "arm/v7": "armv7", "arm/v6": "armhf", "riscv64": "riscv64", "ppc64le": "ppc64le", "s390x": "s390x", "loong64": "loongarch64"},
	Arch: {"amd64": "x86_64", "amd64/v2": "x86_64_v2", "amd64/v3": "x86_64_v3", "amd64/v4": "x86_64_v4", "386": "i686", "arm64": "aarch64", "arm": "armv7h", "arm/v7": "armv7h", "arm/v6": "armv6h", "riscv64": "riscv64", "ppc64le": "powerpc64le", "loong64": "loong64"},
}

// independent is how each format names packages for every platform.
var independent = map[string]string{Deb: "all", RPM: "noarch", APK: "noarch", Arch: "any"}

// ArchOf names a platform in a format; the zero platform is every one. Where a
// format has no name for a variant that only asks for more of the same
// processor, the name is that of the processor.
func ArchOf(format string, on platform.Platform) (string, error) {
	if on.OS == "" {
		return independent[format], nil
	}
	if on.OS != "linux" {
		return "", fmt.Errorf("packages of the format %s are for Linux, and not for %s; choose the platforms with \"platforms\"", format, on)
	}
	key := on.Arch
	if on.Variant != "" {
		key += "/" + on.Variant
	}
	if name := archs[format][key]; name != "" {
		return name, nil
	}
	if name := archs[format][on.Arch]; name != "" && on.Arch != "arm" {
		return name, nil
	}
	return "", fmt.Errorf("no distribution with packages of the format %s has a name for %s; leave the platform or the format out", format, on)
}
