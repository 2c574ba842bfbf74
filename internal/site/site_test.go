package site

import (
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"piedmont/internal/release"
)

func published(version string, at time.Time, files ...release.Artifact) release.Release {
	return release.Release{Record: release.Record{State: "public", Published: at}, Manifest: &release.Manifest{
		Project: release.Project{Name: "hutbell", Summary: `<script>alert("x")</script>`,
			Homepage: "javascript:alert(1)"}, Version: version,
		Commit: release.Commit{ID: strings.Repeat("ab", 20)}, Files: files}}
}

// present places files as their makers do.
func present(f release.Artifact, p Placement) Placement {
	switch {
	case f.Kind == "source":
		p.Group, p.Title, p.Rank = "source", "Source code", RankSource
	case f.Package != nil && f.Package.Format != "odd":
		title := map[string]string{"deb": "Debian, Ubuntu", "rpm": "Fedora, RHEL, openSUSE"}[f.Package.Format]
		install := map[string]string{"deb": "sudo apt install ./", "rpm": "sudo dnf install ./"}[f.Package.Format]
		return Placement{Group: "package-" + f.Package.Format, Title: title, Rank: RankPackages, Part: f.Package.Name,
			Always: true, ByArch: true, OS: "linux", Label: "every processor", Install: install + f.Name}
	}
	return p
}

func sample() Site {
	day := time.Date(2026, 5, 2, 8, 0, 0, 0, time.UTC)
	return Site{Present: present, Base: "https://releases.example.org/hutbell/", Releases: []release.Release{
		published("1.5.0-rc.1", day.AddDate(0, 0, 2), release.Artifact{Name: "rc.zip", Kind: "bundle",
			From: "cli", Platform: "linux/amd64"}),
		published("1.4.0", day, release.Artifact{Name: "s.tar.gz", Kind: "source"},
			release.Artifact{Name: "w.zip", Kind: "bundle", From: "cli", Platform: "windows/arm64"},
			release.Artifact{Name: "l.tar.gz", Kind: "bundle", From: "cli", Platform: "linux/arm/v7"},
			release.Artifact{Name: "p.tar.gz", Kind: "bundle", From: "cli", Platform: "plan9/mips"}),
		published("1.3.9", day.AddDate(0, 0, 1), release.Artifact{Name: "old.zip", Kind: "bundle", From: "cli",
			Platform: "linux/amd64"}),
	}}
}

// What a manifest says is text on the page, never markup or a script.
func TestPageIsSafe(t *testing.T) {
	page, err := sample().Project()
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{`<script>alert(`, `href="javascript:`} {
		if strings.Contains(string(page), bad) {
			t.Errorf("%s is on the page", bad)
		}
	}
	for _, want := range []string{"<h1>1.4.0", "&lt;script&gt;", `href="1.4.0/l.tar.gz"`, `href="./1.3.9/"`,
		"ARM, 32-bit (v7)", "mips"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("%s is not on the page", want)
		}
	}
	order := []string{"<h3>Linux", "<h3>Windows", "<h3>plan9", "<h3>Source code"}
	for i := 1; i < len(order); i++ {
		if strings.Index(string(page), order[i-1]) > strings.Index(string(page), order[i]) {
			t.Errorf("%s comes after %s", order[i-1], order[i])
		}
	}
	old, err := sample().Release(sample().Releases[2])
	if err != nil || !strings.Contains(string(old), "There is a newer release") ||
		!strings.Contains(string(old), `href="../feed.atom"`) {
		t.Errorf("the page of an older release: %v", err)
	}
}

func TestFeed(t *testing.T) {
	data, err := sample().Feed()
	if err != nil {
		t.Fatal(err)
	}
	var feed struct {
		ID, Updated string
		Entries     []struct {
			Title string `xml:"title"`
			ID    string `xml:"id"`
		} `xml:"entry"`
	}
	if err := xml.Unmarshal(data, &feed); err != nil {
		t.Fatal(err)
	}
	if len(feed.Entries) != 3 || feed.Entries[0].Title != "hutbell 1.5.0-rc.1" ||
		feed.Entries[1].Title != "hutbell 1.3.9" {
		t.Errorf("%+v", feed)
	}
	other := sample()
	other.Base = "https://elsewhere.example.org/"
	again, err := other.Feed()
	if err != nil || !strings.Contains(string(again), feed.Entries[0].ID) || feed.Entries[0].ID == feed.Entries[1].ID {
		t.Error("the ids of the entries change with the place")
	}
}

func TestNothingPublished(t *testing.T) {
	for _, draw := range []func() ([]byte, error){Site{}.Project, Site{}.Feed, Site{}.JSON} {
		if _, err := draw(); err != ErrNothing {
			t.Errorf("got %v", err)
		}
	}
	if page, err := Home(nil); err != nil || !strings.Contains(string(page), "Nothing is published here yet") {
		t.Errorf("%v", err)
	}
}

// Packages have groups of their own, which tell how they are installed.
func TestPackagesOnThePage(t *testing.T) {
	pkg := func(name, format, platform string) release.Artifact {
		return release.Artifact{Name: name, Kind: "package", From: "relay", Platform: platform,
			Package: &release.Package{Format: format, Name: "hut<belld>", Version: "1.4.0-1", Arch: "x"}}
	}
	s := Site{Present: present,
		Releases: []release.Release{published("1.4.0", time.Unix(0, 0),
			pkg("b.aarch64.rpm", "rpm", "linux/arm64"), pkg("b.x86_64.rpm", "rpm", "linux/amd64"),
			pkg("b_all.deb", "deb", ""), pkg("b.odd", "odd", "linux/amd64"))}}
	data, err := s.Project()
	if err != nil {
		t.Fatal(err)
	}
	page := string(data)
	for _, want := range []string{"<h3>Debian, Ubuntu", "sudo apt install ./b_all.deb",
		"<h3>Fedora, RHEL, openSUSE", "sudo dnf install ./b.x86_64.rpm", "hut&lt;belld&gt;", "every processor",
		"b.odd"} {
		if !strings.Contains(page, want) {
			t.Errorf("%s is not on the page", want)
		}
	}
	if strings.Index(page, "b.x86_64.rpm") > strings.Index(page, "b.aarch64.rpm") {
		t.Error("the common processor comes last")
	}
}
