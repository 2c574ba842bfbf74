package linuxpkg

import (
	"io/fs"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
)

func TestArchOf(t *testing.T) {
	for on, want := range map[string][4]string{ // deb, rpm, apk, arch; "" is refused
		"linux/amd64":     {"amd64", "x86_64", "x86_64", "x86_64"},
		"linux/amd64/v3":  {"amd64", "x86_64_v3", "x86_64", "x86_64_v3"},
		"linux/386":       {"i386", "i686", "x86", "i686"},
		"linux/arm64":     {"arm64", "aarch64", "aarch64", "aarch64"},
		"linux/arm/v7":    {"armhf", "armv7hl", "armv7", "armv7h"},
		"linux/arm/v6":    {"armhf", "armv6hl", "armhf", "armv6h"},
		"linux/arm/v5":    {"armel", "armv5tel", "", ""},
		"linux/riscv64":   {"riscv64", "riscv64", "riscv64", "riscv64"},
		"linux/ppc64le":   {"ppc64el", "ppc64le", "ppc64le", "powerpc64le"},
		"linux/s390x":     {"s390x", "s390x", "s390x", ""},
		"linux/loong64":   {"loong64", "loongarch64", "loongarch64", "loong64"},
		"windows/amd64":   {"", "", "", ""},
		"darwin/arm64":    {"", "", "", ""},
		"linux/wasm/what": {"", "", "", ""},
	} {
		p, err := platform.Parse(on)
		if err != nil {
			t.Fatal(err)
		}
		for i, format := range Formats {
			got, err := ArchOf(format, p)
			if got != want[i] || (err == nil) != (want[i] != "") {
				t.Errorf("%s in %s: %q, %v; want %q", on, format, got, err, want[i])
			}
		}
	}
	for i, want := range []string{"all", "noarch", "noarch", "any"} {
		if got, err := ArchOf(Formats[i], platform.Platform{}); got != want || err != nil {
			t.Errorf("every platform in %s: %q, %v", Formats[i], got, err)
		}
	}
}

func TestRelations(t *testing.T) {
	for text, want := range map[string][4]string{ // "" is refused for the format
		"a":                  {"a", "a", "a", "a"},
		"a >= 1.2.0":         {"a (>= 1.2.0)", "a >= 1.2.0", "a>=1.2.0", "a>=1.2.0"},
		"a>=1.2":             {"a (>= 1.2)", "a >= 1.2", "a>=1.2", "a>=1.2"},
		"a < 2.0.0":          {"a (<< 2.0.0)", "a < 2.0.0", "a<2.0.0", "a<2.0.0"},
		"a > 2.0.0":          {"a (>> 2.0.0)", "a > 2.0.0", "a>2.0.0", "a>2.0.0"},
		"a <= 1.0.0-rc.1":    {"a (<= 1.0.0~rc1)", "a <= 1.0.0~rc1", "a<=1.0.0_rc1", "a<=1.0.0rc1"},
		"a = 1:2.3-4":        {"a (= 1:2.3-4)", "a = 1:2.3-4", "a=1:2.3-4", "a=1:2.3-4"},
		"a | b >= 1":         {"a | b (>= 1)", "(a or b >= 1)", "", ""},
		"libfoo.so()(64bit)": {"libfoo.so()(64bit)", "libfoo.so()(64bit)", "libfoo.so()(64bit)", "libfoo.so()(64bit)"},
		"/bin/sh":            {"/bin/sh", "/bin/sh", "/bin/sh", "/bin/sh"},
	} {
		r, err := ParseRelation(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		for i, format := range Formats {
			got, err := r.Write(format)
			if got != want[i] || (err == nil) != (want[i] != "") {
				t.Errorf("%s in %s: %q, %v; want %q", text, format, got, err, want[i])
			}
		}
	}
	for _, bad := range []string{"", "a b", "a >=", "a => 1", "a == 1", "| a", "a |", "-a", "a >= 1 2", "a\nb"} {
		if r, err := ParseRelation(bad); err == nil {
			t.Errorf("%q was taken as %v", bad, r)
		}
	}
}

func TestNames(t *testing.T) {
	for _, c := range []struct{ format, name, proposal string }{
		{Deb, "hutbelld", "-"}, {Deb, "h", ""}, {Deb, "Hut_Bell", `"hut-bell"`}, {Deb, "-hut", `"hut"`},
		{RPM, "Hut_Bell", "-"}, {RPM, "hut bell", `"hut-bell"`}, {APK, "hut_bell", "-"}, {APK, "Hut", `"hut"`}, {Arch, "@hut", "-"}, {Arch, ".hut", `"hut"`},
	} {
		err := CheckName(c.format, c.name)
		if (err == nil) != (c.proposal == "-") {
			t.Errorf("%s in %s: %v", c.name, c.format, err)
		} else if err != nil && !strings.Contains(err.Error(), c.proposal) {
			t.Errorf("%s in %s: %v, which does not propose %s", c.name, c.format, err, c.proposal)
		}
	}
	for format, want := range map[string]string{Deb: "bell_1.0-2_all.deb 3:1.0-2", RPM: "bell-1.0-2.all.rpm 3:1.0-2", APK: "bell-1.0-r2.all.apk 1.0-r2", Arch: "bell-1.0-2-all.pkg.tar.zst 3:1.0-2"} {
		p := Package{Format: format, Name: "bell", Version: "1.0", Revision: "2", Epoch: 3, Arch: "all"}
		if got := p.FileName() + " " + p.Full(); got != want {
			t.Errorf("%s: %s, want %s", format, got, want)
		}
	}
}

// The moments of each format come to the same calls of the project's scripts.
func TestScripts(t *testing.T) {
	s := Scripts{BeforeInstall: "#!/bin/sh\nbi", AfterInstall: "ai", BeforeRemove: "br", AfterRemove: "ar", Units: []string{"bell.service"}, Services: []string{"bell"}, TmpFiles: []string{"bell.conf"},
		Users: []User{{"bell", "bell", "", "it's: a bell"}}}
	for _, format := range Formats {
		for moment, want := range map[string]string{BeforeInstall: "set -- install\nbi", AfterInstall: "set -- install\nai", BeforeUpgrade: "set -- upgrade\nbi", AfterUpgrade: "set -- upgrade\nai", BeforeRemove: "set -- remove\nbr", AfterRemove: "set -- remove\nar"} {
			got := s.At(format, moment)
			if !strings.Contains(got, want) {
				t.Errorf("%s, %s: %q is not in\n%s", format, moment, want, got)
			}
			if strings.Contains(got, "systemctl") && format == APK || strings.Contains(got, "rc-service") && format != APK {
				t.Errorf("%s, %s calls the other init system:\n%s", format, moment, got)
			}
		}
	}
	if got := s.At(Deb, BeforeInstall); !strings.Contains(got, "--comment 'its a bell' bell") {
		t.Errorf("the comment gets out of its quotes:\n%s", got)
	}
	if got := (Scripts{}).At(RPM, AfterInstall); got != "" {
		t.Errorf("nothing to do, and a script: %q", got)
	}
	for text, ok := range map[string]bool{"echo": true, "#!/bin/sh\n": true, "#!/bin/sh -e\n": true, "#!/bin/bash\n": false, "#!/usr/bin/env python3\n": false, "#!\n": false} {
		if err := CheckScript(text); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestWithFolders(t *testing.T) {
	files := []File{{Path: "usr/share/bell/tones/low"}, {Path: "etc/bell", Mode: fs.ModeDir | 0o700, Owner: "bell"}, {Path: "etc/bell/bell.conf"}}
	names := func(all bool) string {
		var out []string
		for _, f := range WithFolders(files, all) {
			out = append(out, f.Path)
		}
		return strings.Join(out, " ")
	}
	if got := names(false); got != "etc/bell etc/bell/bell.conf usr/share/bell usr/share/bell/tones usr/share/bell/tones/low" {
		t.Error(got)
	}
	if got := names(true); got != "etc etc/bell etc/bell/bell.conf usr usr/share usr/share/bell usr/share/bell/tones usr/share/bell/tones/low" {
		t.Error(got)
	}
	if i := slices.IndexFunc(WithFolders(files, true), func(f File) bool { return f.Path == "etc/bell" && f.Owner == "bell" }); i < 0 {
		t.Error("a declared folder was replaced")
	}
}

func TestAutoNeeds(t *testing.T) {
	programs := []*exe.Info{{Bits: 64, Needs: []string{"libz.so.1", "libm.so.6", "libc.so.6", "ld-linux-x86-64.so.2"}, Libc: "glibc", LibcAtLeast: "2.34"}, {Bits: 64, Needs: []string{"libz.so.1"}}}
	for format, want := range map[string]string{
		Deb: "zlib1g, libc6 >= 2.34", RPM: "libz.so.1()(64bit), libm.so.6()(64bit), libc.so.6()(64bit), libc.so.6(GLIBC_2.34)(64bit)",
		APK: "so:libz.so.1, so:libm.so.6, so:libc.so.6", Arch: "zlib, glibc",
	} {
		list, err := AutoNeeds(format, programs)
		var got []string
		for _, r := range list {
			got = append(got, r.String())
		}
		if err != nil || strings.Join(got, ", ") != want {
			t.Errorf("%s: %s, %v; want %s", format, strings.Join(got, ", "), err, want)
		}
	}
	_, err := AutoNeeds(Deb, []*exe.Info{{Needs: []string{"libhut.so.3"}}})
	if err == nil || !strings.Contains(err.Error(), "libhut.so.3") {
		t.Errorf("an unknown library: %v", err)
	}
}
