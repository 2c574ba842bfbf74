package plan_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"piedmont/internal/base/platform"
	"piedmont/internal/check/trial"
	"piedmont/internal/config"
	"piedmont/internal/kinds"
	"piedmont/internal/lang/cc"
	"piedmont/internal/lang/command"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/plan"
)

const bells = `[project]
name = "bells"
summary = "Bells"
license = "Apache-2.0"
maintainer = "Ines <ines@ridge-signals.example>"

[program.chime]
language = "c"
source = "chime"
sources = ["**", "!test_*"]
needs = ["tone"]
platforms = ["linux/amd64", "linux/arm64", "windows/amd64"]
stamp = { V = "a \"{version}\"" }
define = { N = "3" }
missing-compiler = "leave-out"

[program.tone]
language = "c"
source = "tone"
makes = "library"
platforms = ["linux/amd64", "linux/arm64", "windows/amd64"]
missing-compiler = "leave-out"

[program.tower]
language = "command"
source = "tower"
platforms = ["linux/amd64"]
run = [["make", "DESTDIR={stage}", "V={version}"]]
env = { LIB = "{stage.tone}/lib" }
needs = ["tone"]

[bundle.chime]
programs = ["chime"]

[bundle.tower]
trees = [{ program = "tower", from = "usr", to = "t" }]
name = "tower"

[trial.rings]
bundle = "chime"
run = ["chime", "{os}"]
expect = "rings {version}"
`

func bellFiles() fstest.MapFS {
	return fstest.MapFS{"chime/main.c": {}, "chime/deep/b.cpp": {}, "chime/test_x.c": {}, "chime/note.txt": {},
		"tone/t.c": {}, "tower/Makefile": {}, "LICENSE": {Data: []byte("x")}}
}

func planBells(t *testing.T, text string, compiler func(platform.Platform, string) error) (*plan.Plan, error) {
	t.Helper()
	k := kinds.New(kinds.Options{Ctx: t.Context(), Dir: t.TempDir(), GoPlatforms: known})
	c, err := config.Parse("/p/piedmont.toml", []byte(text), k.Tables())
	if err != nil {
		t.Fatal(err)
	}
	return plan.New(c, plan.Facts{Release: tagged, Commit: strings.Repeat("3f", 20),
		Time: time.Unix(0, 0).UTC(), Files: bellFiles(),
		Notes: "### New\n\n- **relay:** ring `twice` ([3f2a](https://x))\n- plain\n", Compiler: compiler},
		k.Parts())
}

func TestBuildsOfOtherLanguages(t *testing.T) {
	p, err := planBells(t, bells, nil)
	if err != nil {
		t.Fatal(err)
	}
	var ids []string
	for _, b := range p.Builds {
		ids = append(ids, b.ID)
	}
	// What is needed comes first, whatever the order in the file.
	if want := "compile linux/amd64, compile linux/arm64, compile windows/amd64, compile linux/amd64 chime, " +
		"compile linux/arm64 chime, compile windows/amd64 chime, build linux/amd64"; strings.Join(ids, ", ") != want {
		t.Errorf("builds: %s", strings.Join(ids, ", "))
	}
	chime, _, ok := p.Build("chime", platform.Platform{OS: "windows", Arch: "amd64"})
	if !ok || chime.Programs[0].File != "chime.exe" || !slices.Equal(chime.Job.(*cc.Build).Sources,
		[]string{"chime/deep/b.cpp", "chime/main.c"}) || !chime.Job.(*cc.Build).CXX {
		t.Errorf("chime: %+v %+v", chime, chime.Job)
	}
	if want := []string{"N=3", `V="a \"1.4.0\""`}; !slices.Equal(chime.Job.(*cc.Build).Define, want) ||
		!slices.Equal(chime.Job.(*cc.Build).Libraries, []string{"tone"}) {
		t.Errorf("macros %q, libraries %q", chime.Job.(*cc.Build).Define, chime.Job.(*cc.Build).Libraries)
	}
	tower := p.Builds[6]
	if want := []string{"make", "DESTDIR={stage}", "V=1.4.0"}; !slices.Equal(tower.Job.(*command.Build).Run[0],
		want) || tower.Env[0] != "LIB={stage.tone}/lib" || tower.Needs[0].Build != "compile linux/amd64" {
		t.Errorf("tower: %+v %+v", tower, tower.Job)
	}
	if n := len(trial.In(p)); n != 3 || trial.In(p)[2].Run[0] != "chime.exe" ||
		trial.In(p)[2].Run[1] != "windows" || trial.In(p)[0].Expect.Is != "rings 1.4.0" {
		t.Errorf("%d trials: %+v", n, trial.In(p))
	}
}

func TestLeftOut(t *testing.T) {
	none := errors.New("no compiler")
	only := func(on ...string) func(platform.Platform, string) error {
		return func(p platform.Platform, _ string) error {
			if slices.Contains(on, p.String()) {
				return nil
			}
			return none
		}
	}
	p, err := planBells(t, bells, only("linux/amd64"))
	if err != nil {
		t.Fatal(err)
	}
	if len(p.LeftOut) != 4 || p.LeftOut[0] != (plan.LeftOut{Program: "tone", Platform: "linux/arm64",
		Why: "no compiler"}) || p.LeftOut[2].Why != "it needs tone, which is left out" {
		t.Errorf("left out: %+v", p.LeftOut)
	}
	if got := names(p); !strings.Contains(got, "bells-1.4.0-linux-amd64.tar.gz") ||
		strings.Contains(got, "arm64") || len(trial.In(p)) != 1 {
		t.Errorf("files: %s, %d trials", got, len(trial.In(p)))
	}
	_, err = planBells(t, bells, only("linux/arm64"))
	if err == nil || !strings.Contains(err.Error(), `program "tower" needs "tone", which is left out for linux/amd64`) {
		t.Errorf("a need that is left out: %v", err)
	}
	if p, err = planBells(t, strings.ReplaceAll(bells, `missing-compiler = "leave-out"`, ""),
		only()); err != nil || len(p.LeftOut) != 0 {
		t.Errorf("without leave-out, something was left out: %v, %v", p, err)
	}
}

func TestPackages(t *testing.T) {
	p, err := planBells(t, bells+`
[package.chime]
formats = ["deb", "rpm", "apk", "arch"]
programs = ["chime"]
licenses = ["LICENSE"]
epoch = 1
needs = ["a", "auto"]
folders = [{ to = "/var/lib/chime", owner = "chime" }]
[package.chime.rpm]
name = "Chime"
needs = ["b"]
`, nil)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, one := range linuxpkg.In(p) {
		got = append(got, one.File)
	}
	want := "chime_1.4.0-1_amd64.deb Chime-1.4.0-1.x86_64.rpm chime-1.4.0-r0.x86_64.apk " +
		"chime-1.4.0-1-x86_64.pkg.tar.zst chime_1.4.0-1_arm64.deb Chime-1.4.0-1.aarch64.rpm " +
		"chime-1.4.0-r0.aarch64.apk chime-1.4.0-1-aarch64.pkg.tar.zst"
	if strings.Join(got, " ") != want {
		t.Errorf("packages: %s", strings.Join(got, " "))
	}
	all := linuxpkg.In(p)
	deb, rpm, arch := all[0], all[1], all[3]
	if !deb.AutoNeeds || rpm.AutoNeeds || rpm.Relations["needs"][0] != "b" || deb.Version != "1:1.4.0-1" ||
		deb.Compression != "gz" || arch.Compression != "zst" {
		t.Errorf("deb %+v\nrpm %+v", deb, rpm)
	}
	paths := func(one *linuxpkg.Planned) string {
		var out []string
		for _, e := range one.Entries {
			out = append(out, e.Path)
		}
		return strings.Join(out, " ")
	}
	if got := paths(deb); got != "usr/bin/chime usr/share/doc/chime/changelog.Debian.gz "+
		"usr/share/doc/chime/copyright var/lib/chime" {
		t.Errorf("deb: %s", got)
	}
	// pacman cannot lay out what belongs to an account, so a script does.
	if got := paths(arch); got != "usr/bin/chime usr/share/licenses/chime/LICENSE" {
		t.Errorf("arch: %s", got)
	}
}
