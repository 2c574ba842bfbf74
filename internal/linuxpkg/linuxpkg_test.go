package linuxpkg

import (
	"io/fs"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/release"
)

func TestWithFolders(t *testing.T) {
	files := []release.Entry{at("usr/share/bell/tones/low", 0), at("etc/bell", fs.ModeDir|0o700),
		at("etc/bell/bell.conf", 0)}
	files[1].Owner = "bell"
	names := func(all bool) string {
		var out []string
		for _, f := range WithFolders(files, all) {
			out = append(out, f.Path)
		}
		return strings.Join(out, " ")
	}
	if got := names(false); got != "etc/bell etc/bell/bell.conf usr/share/bell usr/share/bell/tones "+
		"usr/share/bell/tones/low" {
		t.Error(got)
	}
	if got := names(true); got != "etc etc/bell etc/bell/bell.conf usr usr/share usr/share/bell "+
		"usr/share/bell/tones usr/share/bell/tones/low" {
		t.Error(got)
	}
	if i := slices.IndexFunc(WithFolders(files, true),
		func(f release.Entry) bool { return f.Path == "etc/bell" && f.Owner == "bell" }); i < 0 {
		t.Error("a declared folder was replaced")
	}
}

// What is new is taken from the notes, without their marks.
func TestChanges(t *testing.T) {
	got := changes("### New\n\n- **relay:** ring `twice` ([3f2a](https://x))\n- plain\n")
	if want := []string{"relay: ring twice", "plain"}; !slices.Equal(got, want) {
		t.Errorf("changes: %q", got)
	}
}
