package version

import (
	"testing"

	"piedmont/internal/base/semver"
)

func TestDecide(t *testing.T) {
	p, err := ParsePattern("v{version}")
	if err != nil {
		t.Fatal(err)
	}
	const commit = "0123456789abcdef0123456789abcdef01234567"
	cases := []struct {
		name    string
		h       History
		want    string
		preview bool
	}{
		{"tagged and clean", History{Here: []string{"v1.4.0"}}, "1.4.0", false},
		{"the highest of several", History{Here: []string{"v1.9.0", "v1.10.0", "latest", "v1.10.0-rc.1"}},
			"1.10.0", false},
		{"tagged and dirty", History{Here: []string{"v1.4.0"}, Dirty: true}, "1.4.1-preview.0.g01234567.dirty", true},
		{"after a tag", History{Last: "v1.4.0", Distance: 3}, "1.4.1-preview.3.g01234567", true},
		{"after a release candidate", History{Last: "v1.4.0-rc.1", Distance: 2},
			"1.4.0-rc.1.preview.2.g01234567", true},
		{"no tag at all", History{Distance: 7}, "0.0.1-preview.7.g01234567", true},
		{"a tag that is no version", History{Here: []string{"v1.4"}, Distance: 7}, "0.0.1-preview.7.g01234567", true},
		{"a file names the release to come", History{Last: "v1.4.0", Distance: 3, Declared: "1.5.0"},
			"1.5.0-preview.3.g01234567", true},
		{"a file names a candidate to come", History{Last: "v1.4.0", Distance: 3, Declared: "1.5.0-rc.1"},
			"1.5.0-0.preview.3.g01234567", true},
		{"a file and no tag", History{Distance: 3, Declared: "0.3.0"}, "0.3.0-preview.3.g01234567", true},
		{"a file that is behind", History{Last: "v1.4.0", Distance: 3, Declared: "1.4.0"},
			"1.4.1-preview.3.g01234567", true},
		{"a file that agrees", History{Here: []string{"v1.4.0"}, Declared: "1.4.0"}, "1.4.0", false},
		{"a file that does not", History{Here: []string{"v1.4.0"}, Declared: "1.3.0"},
			"1.4.1-preview.0.g01234567", true},
	}
	for _, c := range cases {
		c.h.Commit = commit
		r := Decide(c.h, p)
		if r.Version != c.want || r.Preview != c.preview || !semver.Valid(r.Version) || (r.Why != "") != c.preview {
			t.Errorf("%s: got %+v, want %s", c.name, r, c.want)
		}
	}
}

func TestPreviewsSort(t *testing.T) {
	sorted := []string{"1.4.0-0.preview.3.g01234567", "1.4.0-rc.1", "1.4.0-rc.1.preview.2.g01234567",
		"1.4.0-rc.2", "1.4.0", "1.4.1-preview.3.g01234567", "1.4.1-preview.10.g01234567", "1.4.1"}
	for i := 1; i < len(sorted); i++ {
		if semver.Compare(sorted[i-1], sorted[i]) >= 0 {
			t.Errorf("%s does not sort before %s", sorted[i-1], sorted[i])
		}
	}
}

func TestPatterns(t *testing.T) {
	for _, bad := range []string{"", "v", "{version}{version}", "v {version}", "{tag}{version}", "a..{version}*"} {
		if _, err := ParsePattern(bad); err == nil {
			t.Errorf("%q was accepted", bad)
		}
	}
	p, err := ParsePattern("cli/{version}-final")
	if err != nil {
		t.Fatal(err)
	}
	if v := p.Version("cli/1.2.3-final"); v == nil || v.String() != "1.2.3" ||
		p.Tag("1.2.3") != "cli/1.2.3-final" || p.Version("1.2.3") != nil {
		t.Errorf("got %v", v)
	}
}
