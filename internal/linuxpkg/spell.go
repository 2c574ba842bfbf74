package linuxpkg

import (
	"fmt"
	"strings"

	"github.com/Masterminds/semver/v3"
)

// Spelling is a version apart, for the formats' own ways to write it.
type Spelling struct {
	Core  string   // 1.4.0
	Parts []string // of the pre-release, at its dots; nil for none
}

// Spell takes a SemVer apart. Build metadata has no rank in SemVer and is left
// out.
//
//	        1.4.0-rc.1   1.4.1-preview.3.g3f2a91c0
//	deb     1.4.0~rc1    1.4.1~preview3.g3f2a91c0    "~" sorts before the end (Debian Policy 5.6.12)
//	rpm     1.4.0~rc1    1.4.1~preview3.g3f2a91c0    the same, since rpm 4.10
//	arch    1.4.0rc1     1.4.1preview3.g3f2a91c0     letters sort before the end (vercmp(8))
//	apk     1.4.0_rc1    1.4.1_pre3                  the suffixes that apk knows (apk-package(5))
//
// No format can sort all that SemVer allows; the order is kept for pre-releases
// of words and numbers in which the same place always holds a word, or always a
// number. Digits in a word (rc10) count as a number there, as people mean them.
func Spell(v string) (Spelling, error) {
	s, err := semver.StrictNewVersion(v)
	if err != nil {
		return Spelling{}, fmt.Errorf("%q is not a version as SemVer 2.0 writes it", v)
	}
	out := Spelling{Core: fmt.Sprintf("%d.%d.%d", s.Major(), s.Minor(), s.Patch())}
	if s.Prerelease() != "" {
		out.Parts = strings.Split(s.Prerelease(), ".")
	}
	return out, nil
}

// Joined writes the pre-release so that a number follows its word directly, after
// a sign. All comparers end a word at a digit, but some sort a dot after letters,
// so that "pre.1" would come after "preview.1".
func (s Spelling) Joined(format, v, sign string) (string, error) {
	if len(s.Parts) == 0 {
		return s.Core, nil
	}
	if strings.Contains(strings.Join(s.Parts, "."), "-") {
		return "", fmt.Errorf("%s packages cannot carry the version %s: a hyphen within a pre-release has "+
			"no place there; write it with dots, as in 1.4.0-rc.1", format, v)
	}
	if IsNumber(s.Parts[0]) {
		return "", fmt.Errorf("%s packages cannot carry the version %s: its pre-release must begin with a "+
			"word, as in 1.4.0-rc.1", format, v)
	}
	var b strings.Builder
	for i, p := range s.Parts {
		if i > 0 && (!IsNumber(p) || endsInDigit(s.Parts[i-1])) {
			b.WriteByte('.')
		}
		b.WriteString(p)
	}
	return s.Core + sign + b.String(), nil
}

// IsNumber says whether a text has digits only.
func IsNumber(s string) bool { return strings.Trim(s, "0123456789") == "" }

func endsInDigit(s string) bool { return s[len(s)-1] >= '0' && s[len(s)-1] <= '9' }
