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
//
//	        1.4.0-rc.1   1.4.1-preview.3.g3f2a91c0
//	deb     1.4.0~rc1    1.4.1~preview3.g3f2a91c0    "~" sorts before the end (Debian Policy 5.6.12)
//	rpm     1.4.0~rc1    1.4.1~preview3.g3f2a91c0    the same, since rpm 4.10
//	arch    1.4.0rc1     1.4.1preview3.g3f2a91c0     letters sort before the end (vercmp(8))
//	apk     1.4.0_rc1    1.4.1_pre3                  the suffixes that apk knows (apk-package(5))
//
// Build metadata has no rank in SemVer and is left out. No format can sort all
// that SemVer allows; the order is kept for pre-releases of words and numbers in
// which the same place always holds a word, or always a number. Digits in a word
// (rc10) count as a number there, as people mean them.
func Spell(format, v string) (string, error) {
	s, err := semver.StrictNewVersion(v)
	if err != nil {
		return "", fmt.Errorf("%q is not a version as SemVer 2.0 writes it", v)
	}
	core := fmt.Sprintf("%d.%d.%d", s.Major(), s.Minor(), s.Patch())
	if s.Prerelease() == "" {
		return core, nil
	}
	parts := strings.Split(s.Prerelease(), ".")
	if format == APK {
		return spellAPK(core, v, parts)
	}
	if strings.Contains(s.Prerelease(), "-") {
		return "", fmt.Errorf("%s packages cannot carry the version %s: a hyphen within a pre-release has no place there; write it with dots, as in 1.4.0-rc.1", format, v)
	}
	if isNumber(parts[0]) {
		return "", fmt.Errorf("%s packages cannot carry the version %s: its pre-release must begin with a word, as in 1.4.0-rc.1", format, v)
	}
	switch format {
	case Deb, RPM:
		return core + "~" + attached(parts), nil
	case Arch:
		return core + attached(parts), nil
	}
	return "", fmt.Errorf("unknown package format %q", format)
}

func isNumber(s string) bool { return strings.Trim(s, "0123456789") == "" }

// attached joins identifiers so that a number follows its word directly. All
// comparers end a word at a digit, but some sort a dot after letters, so that
// "pre.1" would come after "preview.1".
func attached(parts []string) string {
	var b strings.Builder
	for i, p := range parts {
		if i > 0 && (!isNumber(p) || endsInDigit(parts[i-1])) {
			b.WriteByte('.')
		}
		b.WriteString(p)
	}
	return b.String()
}

func endsInDigit(s string) bool { return s[len(s)-1] >= '0' && s[len(s)-1] <= '9' }

// apkSuffixes are the pre-release suffixes of apk in their order; a word that
// begins like one of them becomes it.
var apkSuffixes = []string{"alpha", "beta", "pre", "rc"}

// spellAPK knows one suffix with a number, and for what comes after it "_p",
// which sorts after the same without.
func spellAPK(core, v string, parts []string) (string, error) {
	out := core
	for i := 0; i < len(parts); {
		word, number := parts[i], "0"
		i++
		if i < len(parts) && isNumber(parts[i]) {
			number = parts[i]
			i++
		}
		if out != core {
			// What follows the first pair: previews of a candidate count on, and a
			// commit's id and the mark of a changed tree have no rank.
			if word == "preview" {
				out += "_p" + number
			}
			continue
		}
		suffix := ""
		for _, s := range apkSuffixes {
			if word == s || (s == "pre" && strings.HasPrefix(word, "pre")) {
				suffix = s
			}
		}
		if n := strings.TrimLeft(word, "abcdefghijklmnopqrstuvwxyz"); suffix == "" && n != word && isNumber(n) && n != "" {
			for _, s := range apkSuffixes { // rc1 in one word
				if strings.TrimSuffix(word, n) == s {
					suffix, number = s, n
				}
			}
		}
		if suffix == "" {
			return "", fmt.Errorf("apk packages cannot carry the version %s: apk knows the pre-releases alpha, beta, pre and rc, each with a number, as in 1.4.0-rc.1", v)
		}
		if _, err := strconv.ParseUint(number, 10, 63); err != nil {
			return "", fmt.Errorf("apk packages cannot carry the version %s: %s is too large a number", v, number)
		}
		out += "_" + suffix + number
	}
	return out, nil
}
