package site

import (
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"piedmont/internal/release"
)

// Placement says where on a page a file stands and how it is called there.
type Placement struct {
	Hidden bool // it has a place of its own on the page
	Group  string
	Title  string // of the group
	Rank   int    // of the group among the others; the smallest comes first
	// Part is the part of its group that it belongs to. A part has its name above it
	// where the page has several, or Always.
	Part   string
	Always bool
	ByArch bool   // its part is sorted by processor
	OS     string // what it runs on, where the manifest names none
	Label  string // what it is called, where the manifest names no platform
	Ending string // what kind of file it is
	// Install is the command that installs it once it was downloaded. The group shows
	// that of what most people have.
	Install string
}

// Presenter changes the placement of the files of those kinds that it knows.
type Presenter func(release.Artifact, Placement) Placement

// Ranks of groups that hold no system's own files.
const (
	RankPackages = 20 // and more, in the order of the formats
	rankOther    = 50
	rankAny      = 950
	RankSource   = 951
)

// download is one line of a page.
type download struct {
	Name, Label, Detail, Size, SHA256, OS, Arch string
}

type group struct {
	ID, Title string
	Parts     []part
	How       string // the command that installs the first of its packages
}

// part are the downloads of one bundle; it has a name where there are several.
type part struct {
	Name      string
	Downloads []download
	byArch    bool
}

// systems are the groups of a page in their order.
var systems = []struct{ id, title string }{
	{"linux", "Linux"}, {"darwin", "macOS"}, {"windows", "Windows"},
	{"freebsd", "FreeBSD"}, {"openbsd", "OpenBSD"}, {"netbsd", "NetBSD"},
}

// place finds where a file stands: where its kind wants it, or else by its system.
func (s Site) place(f release.Artifact) Placement {
	p := Placement{Part: f.From}
	if f.Platform == "" {
		p.Group, p.Title, p.Rank = "any", "Any system", rankAny
	} else {
		p.Group, _, _ = strings.Cut(f.Platform, "/")
		p.Title, p.Rank = p.Group, rankOther
	}
	for i, x := range systems {
		if x.id == p.Group {
			p.Title, p.Rank = x.title, i
		}
	}
	if s.Present != nil {
		p = s.Present(f, p)
	}
	return p
}

// groups sorts the downloads by system; what fits every system and the source come last.
func (s Site) groups(m *release.Manifest) []group {
	byID := map[string]*group{}
	ranks := map[string]int{}
	var order []string
	places := make([]Placement, len(m.Files))
	names := map[string]bool{}
	for i, f := range m.Files {
		places[i] = s.place(f)
		if places[i].Part != "" && !places[i].Always {
			names[places[i].Part] = true
		}
	}
	for i, f := range m.Files {
		p := places[i]
		if p.Hidden {
			continue
		}
		g := byID[p.Group]
		if g == nil {
			g = &group{ID: p.Group, Title: p.Title}
			byID[p.Group], ranks[p.Group] = g, p.Rank
			order = append(order, p.Group)
		}
		if len(names) < 2 && !p.Always {
			p.Part = ""
		}
		d := s.line(f)
		if p.Install != "" && (g.How == "" || d.Arch == "amd64") { // what most people have
			g.How = p.Install
		}
		at := slices.IndexFunc(g.Parts, func(x part) bool { return x.Name == p.Part })
		if at < 0 {
			at = len(g.Parts)
			g.Parts = append(g.Parts, part{Name: p.Part})
		}
		g.Parts[at].Downloads = append(g.Parts[at].Downloads, d)
		g.Parts[at].byArch = g.Parts[at].byArch || p.ByArch
	}
	slices.SortStableFunc(order, func(a, b string) int { return ranks[a] - ranks[b] })
	var out []group
	for _, id := range order {
		for _, p := range byID[id].Parts {
			if p.byArch {
				slices.SortStableFunc(p.Downloads, func(a, b download) int { return strings.Compare(a.Arch, b.Arch) })
			}
		}
		out = append(out, *byID[id])
	}
	return out
}

// archNames are what people call the architectures.
var archNames = map[string]string{
	"amd64": "Intel or AMD, 64-bit", "386": "Intel or AMD, 32-bit", "arm64": "ARM, 64-bit", "arm": "ARM, 32-bit",
	"riscv64": "RISC-V, 64-bit", "ppc64le": "POWER, little-endian", "s390x": "IBM Z",
}

func (s Site) line(f release.Artifact) download {
	p := s.place(f)
	d := download{Name: f.Name, Size: humanize.IBytes(uint64(f.Size)), SHA256: f.SHA256, Label: f.Name,
		Detail: p.Ending, OS: p.OS}
	if d.Detail == "" {
		d.Detail = "file"
	}
	if p.Label != "" {
		d.Label = p.Label
	}
	if f.Platform == "" {
		return d
	}
	parts := strings.SplitN(f.Platform, "/", 3)
	d.OS, d.Arch = parts[0], strings.Join(parts[1:], "/")
	if len(parts) < 2 {
		return d
	}
	d.Label = archNames[parts[1]]
	if d.Label == "" {
		d.Label = parts[1]
	}
	if d.OS == "darwin" {
		d.Label = map[string]string{"amd64": "Intel Mac", "arm64": "Apple silicon"}[parts[1]]
	}
	if len(parts) > 2 {
		d.Label += " (" + parts[2] + ")"
	}
	return d
}
