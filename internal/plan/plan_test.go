package plan_test

import (
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"piedmont/internal/archive/bundle"
	"piedmont/internal/config"
	"piedmont/internal/kinds"
	"piedmont/internal/plan"
	"piedmont/internal/project/version"
)

var known = []string{"linux/amd64", "linux/arm64", "linux/arm", "darwin/arm64", "windows/amd64"}

func projectFiles() fstest.MapFS {
	return fstest.MapFS{
		"go.mod": {}, "cmd/bell/main.go": {}, "cmd/relay/main.go": {}, "cmd/relay/main_test.go": {},
		"tool/go.mod": {}, "tool/gong/gong.go": {},
		"LICENSE": {Data: []byte("free")}, "man/a.1": {}, "man/b.1": {}, "man/de/a.1": {}, "run.sh": {Mode: 0o755},
		".git/config": {}, "outbox/1.0.0/old.txt": {}, "docs/x[1].txt": {},
	}
}

func compute(t *testing.T, text string, r version.Release,
	in fstest.MapFS) (*plan.Plan, error) {
	t.Helper()
	k := kinds.New(kinds.Options{Ctx: t.Context(), Dir: t.TempDir(), GoPlatforms: known})
	c, err := config.Parse("/p/piedmont.toml", []byte(text), k.Tables())
	if err != nil {
		t.Fatal(err)
	}
	return plan.New(c, plan.Facts{Release: r, Commit: strings.Repeat("3f", 20), Time: time.Unix(0, 0).UTC(),
		Files: in}, k.Parts())
}

var tagged = version.Release{Version: "1.4.0", Tag: "v1.4.0"}

const programs = `[project]
name = "bells"

[platforms]
all = ["linux/amd64", "linux/arm/v7", "windows/amd64"]

[program.bell]
language = "go"
source = "./cmd/bell"
platforms = "all"

[program.relay]
language = "go"
source = "cmd/relay"
platforms = ["linux/amd64", "darwin/arm64"]

[program.gong]
language = "go"
source = "tool/gong"
platforms = ["linux/amd64"]
`

func names(p *plan.Plan) string {
	var out []string
	for _, f := range p.Artifacts {
		out = append(out, f.Name)
	}
	return strings.Join(out, " ")
}

func TestPlan(t *testing.T) {
	p, err := compute(t, programs+`
[bundle.both]
programs = ["bell", "relay"]
name = "both-{version}-{os}"

[bundle.bell]
programs = ["bell"]
files = ["LICENSE", "run.sh", { from = "man/**", to = "share/man" }, { from = "LICENSE", to = "doc/", mode = "0600" }]
folder = "{project}-{version}"
formats = { default = ["tar.gz", "tar.xz"], windows = "zip" }

[bundle.manual]
files = ["man"]

[source]
formats = ["zip"]

[destination.share]
kind = "folder"
path = "x"
`, tagged, projectFiles())
	if err != nil {
		t.Fatal(err)
	}
	want := "both-1.4.0-linux.tar.gz bells-1.4.0-linux-amd64.tar.gz bells-1.4.0-linux-amd64.tar.xz " +
		"bells-1.4.0-linux-armv7.tar.gz bells-1.4.0-linux-armv7.tar.xz " +
		"bells-1.4.0-windows-amd64.zip bells-1.4.0-manual.tar.gz bells-1.4.0-source.zip notes.md " +
		"manifest.json SHA256SUMS"
	if got := names(p); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	var runs []string
	for _, b := range p.Builds {
		run := b.ID + " in " + b.Dir + ":"
		for _, o := range b.Programs {
			run += " " + o.Package + "=" + o.File
		}
		runs = append(runs, run)
	}
	wantRuns := `compile linux/amd64 in .: ./cmd/bell=bell ./cmd/relay=relay
compile linux/arm/v7 in .: ./cmd/bell=bell
compile windows/amd64 in .: ./cmd/bell=bell.exe
compile darwin/arm64 in .: ./cmd/relay=relay
compile linux/amd64 gong in tool: ./gong=gong`
	if got := strings.Join(runs, "\n"); got != wantRuns {
		t.Errorf("got\n%s\nwant\n%s", got, wantRuns)
	}
	var paths []string
	for _, e := range bundle.In(p)[1].Entries {
		paths = append(paths, e.Mode+" "+e.Path)
	}
	wantPaths := "0644 bells-1.4.0/LICENSE, 0755 bells-1.4.0/bell, 0600 bells-1.4.0/doc/LICENSE, 0755 " +
		"bells-1.4.0/run.sh, " +
		"0644 bells-1.4.0/share/man/a.1, 0644 bells-1.4.0/share/man/b.1, 0644 bells-1.4.0/share/man/de/a.1"
	if got := strings.Join(paths, ", "); got != wantPaths {
		t.Errorf("got  %s\nwant %s", got, wantPaths)
	}
	if p.Artifacts[0].To[0] != "share" || p.Artifacts[1].MadeFrom != "bell: bell, 6 files" {
		t.Errorf("%+v", p.Artifacts[:2])
	}
}

func TestPatterns(t *testing.T) {
	for pattern, want := range map[string]string{
		`"man/*.1"`:                          "man/a.1 man/b.1",
		`"man/**/a.1"`:                       "man/a.1 man/de/a.1",
		`"./man/a.1"`:                        "man/a.1",
		`{ from = "man", to = "m" }`:         "m/a.1 m/b.1 m/de/a.1",
		`{ from = "man/*.1", to = "m/" }`:    "m/a.1 m/b.1",
		`{ from = "man/a.1", to = "m/" }`:    "m/a.1",
		`{ from = "man/a.1", to = "m" }`:     "m",
		`"docs/x[1].txt"`:                    "docs/x[1].txt", // a file of that very name comes before the pattern
		`"**/main*.go"`:                      "cmd/bell/main.go cmd/relay/main.go cmd/relay/main_test.go",
		`"{LICENSE,run.sh}"`:                 "LICENSE run.sh",
		`{ from = "**", to = "everything" }`: "",
	} {
		p, err := compute(t, "[project]\nname = \"bells\"\n[bundle.b]\nfiles = ["+pattern+"]\n", tagged, projectFiles())
		if err != nil {
			t.Errorf("%s: %v", pattern, err)
			continue
		}
		var got []string
		for _, e := range bundle.In(p)[0].Entries {
			got = append(got, e.Path)
			if strings.Contains(e.From, "outbox") || strings.Contains(e.From, ".git/") {
				t.Errorf("%s takes %s", pattern, e.From)
			}
		}
		if want != "" && strings.Join(got, " ") != want {
			t.Errorf("%s: got %v, want %s", pattern, got, want)
		}
	}
}

// All faults are told at once.
func TestFaults(t *testing.T) {
	_, err := compute(t, programs+`
[program.none]
language = "go"
source = "cmd/none"
platforms = "all"

[program.tests]
language = "go"
source = "man"
platforms = "all"

[bundle.a]
programs = ["bell"]
name = "same"

[bundle.b]
programs = ["relay", "gong"]
name = "SAME"

[bundle.apart]
programs = ["gong", "bell"]
platforms = ["darwin/arm64"]

[bundle.files]
files = ["nothing/*", "none.txt"]
`, tagged, projectFiles())
	if err == nil {
		t.Fatal("no fault was found")
	}
	for _, want := range []string{
		`program "none": there is no folder cmd/none`, `program "tests": the folder man holds no Go files`,
		"files would have the name same.tar.gz", "b: relay, gong for linux/amd64",
		`bundle "apart": not all of its programs are made for darwin/arm64`, "nothing matches nothing/*",
		"there is no file none.txt",
	} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q is not in\n%v", want, err)
		}
	}
	if _, err := compute(t, "[project]\nname = \"bells\"\n", tagged, projectFiles()); err == nil ||
		!strings.Contains(err.Error(), "nothing would be made") {
		t.Errorf("nothing to make: %v", err)
	}
}

func TestPreviewGoesWhereItMay(t *testing.T) {
	p, err := compute(t, "[project]\nname = \"bells\"\n[source]\n[destination.a]\nkind=\"folder\"\npath=\"a\"\n"+
		"[destination.b]\nkind=\"folder\"\npath=\"b\"\npreviews=true\n",
		version.Release{Version: "1.4.1-preview.1.gabc", Preview: true, Why: "x"}, projectFiles())
	if err != nil || len(p.Artifacts[0].To) != 1 || p.Artifacts[0].To[0] != "b" {
		t.Errorf("%v %+v", err, p)
	}
}
