package version

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/Masterminds/semver/v3"
)

// Formats of distribution packages, each with a spelling of versions of its own.
const (
	Deb  = "deb"
	RPM  = "rpm"
	APK  = "apk"
	Arch = "arch"
)

// Spell writes a version so that the packages of a format sort as SemVer does.
// Build metadata has no rank in SemVer and is left out.
//
//	deb   1.4.0~rc.1      "~" sorts before the end (Debian Policy, section 5.6.12)
//	rpm   1.4.0~rc.1      the same since rpm 4.10
//	apk   1.4.0_rc1       the suffixes that apk knows (apk-tools, doc/apk-package.5)
//	arch  1.4.0rc.1       letters after a number sort before its end (vercmp(8))
func Spell(format, v string) (string, error) {
	s, err := semver.StrictNewVersion(v)
	if err != nil {
		return "", fmt.Errorf("%q is not a version as SemVer 2.0 writes it", v)
	}
	core := fmt.Sprintf("%d.%d.%d", s.Major(), s.Minor(), s.Patch())
	if s.Prerelease() == "" {
		return core, nil
	}
	switch format {
	case Deb, RPM:
		return core + "~" + ranked(s.Prerelease()), nil
	case Arch:
		return core + "pre." + ranked(s.Prerelease()), nil
	case APK:
		return apk(core, s.Prerelease())
	}
	return "", fmt.Errorf("unknown package format %q", format)
}
