package exe

import (
	"strconv"
	"strings"
)

// glibcOf lists, oldest first, which version of glibc common distributions
// began to have.
var glibcOf = []struct{ glibc, distributions string }{
	{"2.12", "RHEL 6"},
	{"2.17", "RHEL 7"},
	{"2.19", "Debian 8"},
	{"2.23", "Ubuntu 16.04"},
	{"2.24", "Debian 9"},
	{"2.27", "Ubuntu 18.04"},
	{"2.28", "Debian 10, RHEL 8"},
	{"2.31", "Debian 11, Ubuntu 20.04"},
	{"2.34", "RHEL 9"},
	{"2.35", "Ubuntu 22.04"},
	{"2.36", "Debian 12"},
	{"2.39", "Ubuntu 24.04, RHEL 10"},
	{"2.41", "Debian 13"},
}

// OldestSystem names the oldest common distribution whose glibc has all that
// is needed; "" when none is known.
func OldestSystem(glibc string) string {
	if glibc == "" {
		return ""
	}
	for _, d := range glibcOf {
		if CompareNumbers(d.glibc, glibc) >= 0 {
			return d.distributions
		}
	}
	return ""
}

// CompareNumbers compares dotted numbers; "" is below all.
func CompareNumbers(a, b string) int {
	if a == "" || b == "" {
		return len(a) - len(b)
	}
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(as), len(bs)) {
		var x, y int
		if i < len(as) {
			x, _ = strconv.Atoi(as[i])
		}
		if i < len(bs) {
			y, _ = strconv.Atoi(bs[i])
		}
		if x != y {
			return x - y
		}
	}
	return 0
}

// IsNumber says whether a text is a dotted number such as 2.28.
func IsNumber(s string) bool {
	for _, part := range strings.Split(s, ".") {
		if _, err := strconv.ParseUint(part, 10, 16); err != nil {
			return false
		}
	}
	return true
}
