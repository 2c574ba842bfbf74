package config_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"piedmont/internal/archive/bundle"
	"piedmont/internal/archive/source"
	"piedmont/internal/base/platform"
	"piedmont/internal/base/secret"
	"piedmont/internal/check/trial"
	"piedmont/internal/config"
	"piedmont/internal/kinds"
	"piedmont/internal/lang"
	"piedmont/internal/lang/cc"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/plan"
	"piedmont/internal/project/changelog"
	"piedmont/internal/project/version"
	"piedmont/internal/publish"
	"piedmont/internal/publish/pageclient"
)

var known = []string{"linux/amd64", "linux/arm64", "linux/arm", "darwin/arm64", "windows/amd64"}

func parseText(text string) (*config.Document, error) {
	tables := kinds.New(kinds.Options{GoPlatforms: known}).Tables()
	return config.Parse("/project/piedmont.toml", []byte(text), tables)
}

const good = `[project]
name = "hutbell"

[platforms]
all = ["linux/amd64", "linux/arm/v7", "windows/amd64"]

[program.hutbell]
language  = "go"
source    = "./cmd/hutbell"
platforms = ["all", "darwin/arm64"]
stamp     = { "main.version" = "{version}" }

[bundle.cli]
programs = ["hutbell"]
files    = ["LICENSE", { from = "man/*.1", to = "man/" }]
formats  = { default = "tar.gz", windows = ["zip", "tar.xz"], "linux/arm/v7" = "tar.zst" }

[destination.page]
kind  = "release-page"
url   = "http://127.0.0.1:8730"
token = "env:TOKEN"
`

func TestGood(t *testing.T) {
	c, err := parseText(good)
	if err != nil {
		t.Fatal(err)
	}
	if got := len(lang.Find(c, "hutbell").Platforms.List); got != 4 {
		t.Errorf("%d platforms, want 4", got)
	}
	for p, want := range map[string][]string{"linux/amd64": {"tar.gz"}, "windows/amd64": {"zip", "tar.xz"},
		"linux/arm/v7": {"tar.zst"}} {
		on, err := platform.Parse(p)
		if err != nil {
			t.Fatal(err)
		}
		if got := bundle.Of(c)[0].Formats.For(on); !slices.Equal(got, want) {
			t.Errorf("%s: formats %v, want %v", p, got, want)
		}
	}
	if bundle.Of(c)[0].Files[1] != (config.Rule{From: "man/*.1", To: "man/"}) {
		t.Errorf("files: %+v", bundle.Of(c)[0].Files)
	}
	own := publish.Find(c, "page").Own.(*pageclient.Keys)
	if own.Token.Place != (secret.Place{From: "env", Value: "TOKEN"}) {
		t.Errorf("token: %+v", own.Token)
	}
}

// Every fault is told, all at once, with its place and the likely spelling.
func TestFaults(t *testing.T) {
	head := "[project]\nname = \"x\"\n"
	cases := map[string]struct {
		text string
		want []string
	}{
		"not TOML":           {"[project\nname = 1", []string{"1:9: not TOML"}},
		"a zero byte":        {"[project]\nname = \"\x00\"", []string{"2:9: this is not a TOML file"}},
		"twice the same key": {head + "name = \"y\"\n", []string{"3:1: not TOML"}},
		"several at once": {"[project]\nname = \"X Y\"\nhomepage = \"nowhere\"\n[bundel]\n",
			[]string{`2:8: "X Y" cannot be a project name`, "3:12:",
				`4:2: unknown key "bundel" in the file; did you mean "bundle"?`}},
		"reserved name":       {"[project]\nname = \"api\"\n", []string{"the release page uses it itself"}},
		"a value for a table": {"project = 3\n", []string{"1:11: expected a table, found a number"}},
		"a table without a name": {head + "[program]\nlanguage = \"go\"\n",
			[]string{`4:1: unknown key "language" in [program]; it holds tables with a name each, ` +
				"as in [program.NAME]"}},
		"missing keys": {head + "[program.a]\n",
			[]string{`3:10: [program.a] needs the key "language"; such as language = "go"`,
				`needs the key "source"`, `needs the key "platforms"`}},
		"a list of numbers": {head + "[source]\nformats = [\"zip\", 3]\n",
			[]string{"4:19: expected a text in quotes, found a number"}},
		"a format that is none": {head + "[source]\nformats = [\"rar\"]\n", []string{`4:12: unknown format "rar"`}},
		"an empty set":          {head + "[platforms]\nall = []\n", []string{`4:1: the platform set "all" is empty`}},
		"a variant that is none": {head + "[platforms]\nall = [\"linux/amd64/v9\"]\n",
			[]string{`4:8: amd64 has no variant "v9": there are v1, v2, v3, v4`}},
		"an unclosed placeholder": {head + "[bundle.b]\nfiles = [\"a\"]\nname = \"{version\"\n",
			[]string{`5:9: "{" is never closed`}},
		"a tag form without": {head + "[version]\ntag = \"v\"\n",
			[]string{"4:7: a tag form holds {version} exactly once"}},
		"a path that leaves": {head + "[bundle.b]\nfiles = [\"../secret\", \"/etc/passwd\"]\n",
			[]string{`4:10: "../secret" leaves the project`, `4:23: "/etc/passwd" leaves the project`}},
		"a mode that is none": {head + "[bundle.b]\nfiles = [{ from = \"a\", mode = \"999\" }]\n",
			[]string{`4:31: "999" is not a mode`}},
		"a rule without from": {head + "[bundle.b]\nfiles = [{ to = \"a\" }]\n",
			[]string{`a file rule needs "from"`}},
		"an unknown rule key": {head + "[bundle.b]\nfiles = [{ from = \"a\", too = \"b\" }]\n",
			[]string{`4:24: unknown key "too" in a file rule; did you mean "to"?`}},
		"an empty bundle": {head + "[bundle.b]\n", []string{`the bundle "b" is empty`}},
		"a flag that is set": {head +
			"[program.a]\nlanguage=\"go\"\nsource=\".\"\nplatforms=[\"linux/amd64\"]\nflags=[\"-o=x\", " +
			"\"tags\"]\nenv={GOOS=\"plan9\"}\n", []string{"7:8: -o is set by Piedmont itself",
			`7:16: "tags" is not a flag`, "8:11: GOOS is set by Piedmont itself"}},
		"another language": {head +
			"[program.a]\nlanguage=\"gp\"\nsource=\".\"\nplatforms=[\"linux/amd64\"]\n",
			[]string{`4:10: unknown language "gp"; did you mean "go"?`}},
		"a folder with a url": {head + "[destination.d]\nkind=\"folder\"\nurl=\"https://x.example\"\n",
			[]string{`[destination.d] of kind "folder" needs the key "path"`,
				`5:5: a destination of kind "folder" has no "url"`}},
		"a password in a url": {head +
			"[destination.d]\nkind=\"release-page\"\nurl=\"https://u:p@x.example\"\n",
			[]string{"5:5: an address here has no user, password"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, err := parseText(c.text)
			var faults config.Errors
			if !errors.As(err, &faults) {
				t.Fatalf("got %v", err)
			}
			for _, want := range c.want {
				if !strings.Contains(err.Error(), want) {
					t.Errorf("%q is not in\n%v", want, err)
				}
			}
			for i := 1; i < len(faults); i++ {
				if faults[i].Pos.Line < faults[i-1].Pos.Line {
					t.Errorf("not in the order of the file:\n%v", err)
				}
			}
		})
	}
}

// A token that was written into the file is not repeated in the error.
func TestSecretIsNotRepeated(t *testing.T) {
	_, err := parseText("[project]\nname=\"x\"\n[destination.d]\nkind=\"release-page\"\n" +
		"url=\"https://x.example\"\ntoken=\"hunter2\"\n")
	if err == nil || strings.Contains(err.Error(), "hunter2") ||
		!strings.Contains(err.Error(), "6:7: a token is never written here") {
		t.Errorf("got %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(good)
	f.Add("[a.b]\nc.d = [1, {x = 2}]\n[[e]]\n[[e]]\nf = 1979-05-27\n")
	f.Add("[project]\nname.x = 1\n[program.a]\nstamp = 3\n[bundle]\nx = [")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := parseText(text)
		if (c == nil) == (err == nil) {
			t.Errorf("config %v with error %v", c, err)
		}
		var faults config.Errors
		if err != nil && !errors.As(err, &faults) {
			t.Errorf("an error without a place: %v", err)
		}
		for _, e := range faults {
			if e.Pos.Line < 1 || e.Pos.Column < 1 {
				t.Errorf("an error without a place: %v", e)
			}
		}
	})
}

// What the reference says of a key that is not there is what the reader gives it.
func TestDefaultsAreApplied(t *testing.T) {
	c, err := parseText(good + `
[package.bell]
formats = "deb"
programs = ["hutbell"]
summary = "Rings"
maintainer = "Ines <ines@ridge-signals.example>"
[source]
[trial.rings]
bundle = "cli"
run = ["hutbell"]
[destination.share]
kind = "folder"
path = "x"
[program.c]
language = "c"
source = "c"
platforms = ["linux/amd64"]
`)
	if err != nil {
		t.Fatal(err)
	}
	own := lang.Find(c, "c").Own.(*cc.Keys)
	for what, got := range map[string][2]string{
		"version.tag":      {version.Of(c).Pattern.Tag("1.0.0"), "v1.0.0"},
		"cut.changelog":    {changelog.Of(c).Changelog, "CHANGELOG.md"},
		"package.bin":      {linuxpkg.Of(c)[0].Bin, "/usr/bin"},
		"package.revision": {linuxpkg.Of(c)[0].Revision, "1"},
		"source.name":      {config.One[source.Keys](c, "source").File, "{project}-{version}-source"},
		"source.formats":   {strings.Join(config.One[source.Keys](c, "source").Formats, " "), "tar.gz"},
		"trial.within":     {trial.Of(c)[0].Within, "60s"},
		"packing.effort":   {config.One[plan.Packing](c, "packing").Effort, "normal"},
		"program.link":     {own.Link + own.Makes + own.Symbols + own.MissingCompiler, "dynamicprogramstripstop"},
	} {
		if got[0] != got[1] {
			t.Errorf("%s is %q without a value, want %q", what, got[0], got[1])
		}
	}
	// Every default that is documented can be read.
	for _, table := range config.Reference(kinds.New(kinds.Options{}).Tables()) {
		for _, k := range table.Keys {
			if k.Default != "" && k.Need {
				t.Errorf("%s %s is needed and has a default", table.Name, k.Name)
			}
		}
	}
}

// Without tables everything is unknown, and that is told.
func TestNoTables(t *testing.T) {
	if _, err := config.Parse("piedmont.toml", []byte("[project]\n"), nil); err == nil ||
		!strings.Contains(err.Error(), `unknown key "project"`) {
		t.Errorf("got %v", err)
	}
}
