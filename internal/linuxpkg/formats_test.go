package linuxpkg_test

import (
	"strings"
	"testing"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/alpm"
	"piedmont/internal/linuxpkg/apk"
	"piedmont/internal/linuxpkg/deb"
	"piedmont/internal/linuxpkg/rpm"
)

// formats are all of them, in the order of the tables below.
var formats = []linuxpkg.Format{deb.Format{}, rpm.Format{}, apk.Format{}, alpm.Format{}}

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
		for i, format := range formats {
			got, err := format.Arch(p)
			if got != want[i] || (err == nil) != (want[i] != "") {
				t.Errorf("%s in %s: %q, %v; want %q", on, format.Name(), got, err, want[i])
			}
		}
	}
	for i, want := range []string{"all", "noarch", "noarch", "any"} {
		if got, err := formats[i].Arch(platform.Platform{}); got != want || err != nil {
			t.Errorf("every platform in %s: %q, %v", formats[i].Name(), got, err)
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
		r, err := linuxpkg.ParseRelation(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		for i, format := range formats {
			got, err := format.Relation(r)
			if got != want[i] || (err == nil) != (want[i] != "") {
				t.Errorf("%s in %s: %q, %v; want %q", text, format.Name(), got, err, want[i])
			}
		}
	}
	for _, bad := range []string{"", "a b", "a >=", "a => 1", "a == 1", "| a", "a |", "-a", "a >= 1 2", "a\nb"} {
		if r, err := linuxpkg.ParseRelation(bad); err == nil {
			t.Errorf("%q was taken as %v", bad, r)
		}
	}
}

func TestNames(t *testing.T) {
	for _, c := range []struct {
		format         linuxpkg.Format
		name, proposal string
	}{
		{deb.Format{}, "hutbelld", "-"}, {deb.Format{}, "h", ""}, {deb.Format{}, "Hut_Bell", `"hut-bell"`},
		{deb.Format{}, "-hut", `"hut"`},
		{rpm.Format{}, "Hut_Bell", "-"}, {rpm.Format{}, "hut bell", `"hut-bell"`},
		{apk.Format{}, "hut_bell", "-"}, {apk.Format{}, "Hut", `"hut"`}, {alpm.Format{}, "@hut", "-"},
		{alpm.Format{}, ".hut", `"hut"`},
	} {
		err := c.format.CheckName(c.name)
		if (err == nil) != (c.proposal == "-") {
			t.Errorf("%s in %s: %v", c.name, c.format.Name(), err)
		} else if err != nil && !strings.Contains(err.Error(), c.proposal) {
			t.Errorf("%s in %s: %v, which does not propose %s", c.name, c.format.Name(), err, c.proposal)
		}
	}
	for format, want := range map[linuxpkg.Format]string{deb.Format{}: "bell_1.0-2_all.deb 3:1.0-2",
		rpm.Format{}: "bell-1.0-2.all.rpm 3:1.0-2", apk.Format{}: "bell-1.0-r2.all.apk 1.0-r2",
		alpm.Format{}: "bell-1.0-2-all.pkg.tar.zst 3:1.0-2"} {
		p := linuxpkg.Package{Format: format, Name: "bell", Version: "1.0", Revision: "2", Epoch: 3, Arch: "all"}
		if got := p.FileName() + " " + p.Full(); got != want {
			t.Errorf("%s: %s, want %s", format.Name(), got, want)
		}
	}
}

// The moments of each format come to the same calls of the project's scripts.
func TestScripts(t *testing.T) {
	s := linuxpkg.Scripts{BeforeInstall: "#!/bin/sh\nbi", AfterInstall: "ai", BeforeRemove: "br",
		AfterRemove: "ar", Units: []string{"bell.service"}, Services: []string{"bell"}, TmpFiles: []string{"bell.conf"},
		Users: []linuxpkg.User{{Name: "bell", Group: "bell", Comment: "it's: a bell"}}}
	for _, format := range formats {
		for moment, want := range map[string]string{linuxpkg.BeforeInstall: "set -- install\nbi",
			linuxpkg.AfterInstall: "set -- install\nai", linuxpkg.BeforeUpgrade: "set -- upgrade\nbi",
			linuxpkg.AfterUpgrade: "set -- upgrade\nai", linuxpkg.BeforeRemove: "set -- remove\nbr",
			linuxpkg.AfterRemove: "set -- remove\nar"} {
			got := s.At(format, moment)
			if !strings.Contains(got, want) {
				t.Errorf("%s, %s: %q is not in\n%s", format.Name(), moment, want, got)
			}
			if strings.Contains(got, "systemctl") && format.Name() == "apk" ||
				strings.Contains(got, "rc-service") && format.Name() != "apk" {
				t.Errorf("%s, %s calls the other init system:\n%s", format.Name(), moment, got)
			}
		}
	}
	if got := s.At(deb.Format{}, linuxpkg.BeforeInstall); !strings.Contains(got, "--comment 'its a bell' bell") {
		t.Errorf("the comment gets out of its quotes:\n%s", got)
	}
	if got := (linuxpkg.Scripts{}).At(rpm.Format{}, linuxpkg.AfterInstall); got != "" {
		t.Errorf("nothing to do, and a script: %q", got)
	}
	for text, ok := range map[string]bool{"echo": true, "#!/bin/sh\n": true, "#!/bin/sh -e\n": true,
		"#!/bin/bash\n": false, "#!/usr/bin/env python3\n": false, "#!\n": false} {
		if err := linuxpkg.CheckScript(text); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestNeededLibraries(t *testing.T) {
	programs := []*exe.Info{{Bits: 64, Needs: []string{"libz.so.1", "libm.so.6", "libc.so.6",
		"ld-linux-x86-64.so.2"}, Libc: "glibc", LibcAtLeast: "2.34"}, {Bits: 64, Needs: []string{"libz.so.1"}}}
	for format, want := range map[linuxpkg.Format]string{
		deb.Format{}: "zlib1g, libc6 >= 2.34",
		rpm.Format{}: "libz.so.1()(64bit), libm.so.6()(64bit), libc.so.6()(64bit), libc.so.6(GLIBC_2.34)(64bit)",
		apk.Format{}: "so:libz.so.1, so:libm.so.6, so:libc.so.6", alpm.Format{}: "zlib, glibc",
	} {
		list, err := format.Needs(programs)
		var got []string
		for _, r := range list {
			got = append(got, r.String())
		}
		if err != nil || strings.Join(got, ", ") != want {
			t.Errorf("%s: %s, %v; want %s", format.Name(), strings.Join(got, ", "), err, want)
		}
	}
	_, err := deb.Format{}.Needs([]*exe.Info{{Needs: []string{"libhut.so.3"}}})
	if err == nil || !strings.Contains(err.Error(), "libhut.so.3") {
		t.Errorf("an unknown library: %v", err)
	}
}

func TestSpell(t *testing.T) {
	for v, want := range map[string]string{
		"1.4.0":         "1.4.0 1.4.0 1.4.0 1.4.0",
		"1.4.0+build.5": "1.4.0 1.4.0 1.4.0 1.4.0",
		"1.4.0-rc.1":    "1.4.0~rc1 1.4.0~rc1 1.4.0rc1 1.4.0_rc1",
		"1.4.0-rc1":     "1.4.0~rc1 1.4.0~rc1 1.4.0rc1 1.4.0_rc1",
		"1.4.0-alpha":   "1.4.0~alpha 1.4.0~alpha 1.4.0alpha 1.4.0_alpha0",
		"1.4.1-preview.3.g3f2a91c0.dirty": "1.4.1~preview3.g3f2a91c0.dirty 1.4.1~preview3.g3f2a91c0.dirty " +
			"1.4.1preview3.g3f2a91c0.dirty 1.4.1_pre3",
		"1.4.0-rc.1.preview.2.g3f2a91c0": "1.4.0~rc1.preview2.g3f2a91c0 1.4.0~rc1.preview2.g3f2a91c0 " +
			"1.4.0rc1.preview2.g3f2a91c0 1.4.0_rc1_p2",
	} {
		var got []string
		for _, format := range []linuxpkg.Format{deb.Format{}, rpm.Format{}, alpm.Format{}, apk.Format{}} {
			s, err := format.Version(v)
			if err != nil {
				t.Errorf("%s for %s: %v", v, format.Name(), err)
			}
			got = append(got, s)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: got %s, want %s", v, got, want)
		}
	}
	for _, bad := range []string{"1.4", "v1.4.0", "1.4.0-5", "1.4.0-rc-1"} {
		for _, format := range []linuxpkg.Format{deb.Format{}, rpm.Format{}, alpm.Format{}, apk.Format{}} {
			if s, err := format.Version(bad); err == nil {
				t.Errorf("%s for %s: %s", bad, format.Name(), s)
			}
		}
	}
}
