// Package site draws the public face of a project's releases: pages for people,
// an Atom feed and a JSON index. All of it is computed from the releases, so a
// server can draw it when asked and a folder can hold it as files.
package site

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/yuin/goldmark"

	"piedmont/internal/project/version"
	"piedmont/internal/publish/layout"
	"piedmont/internal/release"
)

//go:embed templates
var files embed.FS

var pages = template.Must(template.New("").ParseFS(files, "templates/*.html"))

// Site is one project with its public releases, the highest version first.
type Site struct {
	Releases []layout.Release
	// Base is the absolute address of the project's page with a slash at its
	// end, or "" when it is not known; only the feed needs it.
	Base string
}

func (s Site) latest() layout.Release {
	r, _ := layout.Latest(s.Releases)
	return r
}

// Download is one line of a page.
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
}

type view struct {
	Project     release.Project
	Title       string
	Version     string
	Tag         string
	Commit      string
	CommitTime  string
	Published   string
	PublishedAt string
	Preview     bool
	Newest      bool // this is what "latest" means
	Groups      []group
	Files       []download
	Root        string // relative way from the page to the project's page
	Here        string // relative way from the page to the release's folder
	Others      []other
	Notes       template.HTML // what the release brings; made from Markdown without raw HTML
	Style       template.CSS
	Script      template.JS
}

type other struct {
	Version, Date string
	Preview, Here bool
}

// Project draws the project's page: the latest release and a list of all.
func (s Site) Project() ([]byte, error) {
	if len(s.Releases) == 0 {
		return nil, layout.ErrUnknown
	}
	r := s.latest()
	return s.page(r, "./", r.Manifest.Version+"/")
}

// Release draws the page of one release, to be shown in its folder.
func (s Site) Release(r layout.Release) ([]byte, error) { return s.page(r, "../", "./") }

func (s Site) page(r layout.Release, root, here string) ([]byte, error) {
	m := r.Manifest
	style, err := files.ReadFile("templates/style.css")
	if err != nil {
		return nil, err
	}
	script, err := files.ReadFile("templates/script.js")
	if err != nil {
		return nil, err
	}
	v := view{
		Project: m.Project, Title: m.Project.Name + " " + m.Version, Version: m.Version, Tag: m.Tag,
		Commit: m.Commit.ID[:min(10, len(m.Commit.ID))], CommitTime: m.Commit.Time.UTC().Format("2 January 2006"),
		Published: r.Published.UTC().Format("2 January 2006"), PublishedAt: r.Published.UTC().Format(time.RFC3339),
		Preview: m.Preview, Newest: s.latest().Manifest.Version == m.Version, Groups: groups(m), Root: root, Here: here,
		Style: template.CSS(style), Script: template.JS(script),
	}
	for _, f := range m.Files {
		v.Files = append(v.Files, line(f))
	}
	if v.Notes, err = markdown(r.Notes); err != nil {
		return nil, err
	}
	for _, o := range s.Releases {
		v.Others = append(v.Others, other{o.Manifest.Version, o.Published.UTC().Format("2 January 2006"), version.IsPrerelease(o.Manifest.Version), o.Manifest.Version == m.Version})
	}
	return render("release.html", v)
}

// markdown draws notes. The library leaves out raw HTML and the addresses that
// run scripts, so notes from anywhere are safe to show.
func markdown(text []byte) (template.HTML, error) {
	if len(bytes.TrimSpace(text)) == 0 {
		return "", nil
	}
	var b bytes.Buffer
	if err := goldmark.Convert(text, &b); err != nil {
		return "", fmt.Errorf("draw the notes: %w", err)
	}
	return template.HTML(b.String()), nil
}

func render(name string, data any) ([]byte, error) {
	var buf bytes.Buffer
	if err := pages.ExecuteTemplate(&buf, name, data); err != nil {
		return nil, fmt.Errorf("draw the page: %w", err)
	}
	return buf.Bytes(), nil
}

// systems are the groups of a page in their order.
var systems = []struct{ id, title string }{
	{"linux", "Linux"}, {"darwin", "macOS"}, {"windows", "Windows"},
	{"freebsd", "FreeBSD"}, {"openbsd", "OpenBSD"}, {"netbsd", "NetBSD"},
}

// distributions are the groups of packages, by format: whose they are, and how
// one that was downloaded is installed.
var distributions = map[string]struct{ title, how string }{
	"deb":  {"Debian, Ubuntu", "sudo apt install ./"},
	"rpm":  {"Fedora, RHEL, openSUSE", "sudo dnf install ./"},
	"apk":  {"Alpine", "sudo apk add --allow-untrusted ./"},
	"arch": {"Arch Linux", "sudo pacman -U ./"},
}

// groups sorts the downloads by system; what fits every system and the source come last.
func groups(m *release.Manifest) []group {
	byID := map[string]*group{}
	var order []string
	bundles := map[string]bool{}
	for _, f := range m.Files {
		if f.Kind == "bundle" {
			bundles[f.From] = true
		}
	}
	add := func(id, title, from string, d download) {
		g := byID[id]
		if g == nil {
			g = &group{ID: id, Title: title}
			byID[id] = g
			order = append(order, id)
		}
		if len(bundles) < 2 && !strings.HasPrefix(id, "package-") {
			from = ""
		}
		i := slices.IndexFunc(g.Parts, func(p part) bool { return p.Name == from })
		if i < 0 {
			i = len(g.Parts)
			g.Parts = append(g.Parts, part{Name: from})
		}
		g.Parts[i].Downloads = append(g.Parts[i].Downloads, d)
	}
	for _, f := range m.Files {
		d := line(f)
		switch {
		case f.Kind == "notes":
		case f.Package != nil && distributions[f.Package.Format].title != "":
			how := distributions[f.Package.Format]
			if d.OS == "" {
				d.OS, d.Label = "linux", "every processor"
			}
			id := "package-" + f.Package.Format
			add(id, how.title, f.Package.Name, d)
			if byID[id].How == "" || d.Arch == "amd64" { // what most people have
				byID[id].How = how.how + f.Name
			}
		case f.Kind == "source":
			add("source", "Source code", "", d)
		case f.Platform == "":
			add("any", "Any system", f.From, d)
		default:
			title := d.OS
			for _, s := range systems {
				if s.id == d.OS {
					title = s.title
				}
			}
			add(d.OS, title, f.From, d)
		}
	}
	rank := func(id string) int {
		for i, s := range systems {
			if s.id == id {
				return i
			}
		}
		for i, format := range []string{"deb", "rpm", "apk", "arch"} {
			if id == "package-"+format {
				return 20 + i
			}
		}
		return map[string]int{"any": 900, "source": 901}[id] + 50
	}
	slices.SortStableFunc(order, func(a, b string) int { return rank(a) - rank(b) })
	var out []group
	for _, id := range order {
		if strings.HasPrefix(id, "package-") { // by their own names they have no common order
			for _, p := range byID[id].Parts {
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

func line(f release.File) download {
	d := download{Name: f.Name, Size: humanize.IBytes(uint64(f.Size)), SHA256: f.SHA256, Label: f.Name}
	if f.Platform != "" {
		parts := strings.SplitN(f.Platform, "/", 3)
		d.OS, d.Arch = parts[0], strings.Join(parts[1:], "/")
		if len(parts) > 1 {
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
		}
	}
	d.Detail = ending(f.Name)
	return d
}

func ending(name string) string {
	for _, e := range []string{"pkg.tar.zst", "tar.gz", "tar.xz", "tar.zst", "zip", "deb", "rpm", "apk"} {
		if strings.HasSuffix(name, "."+e) {
			return e
		}
	}
	return "file"
}

// Home draws the list of a server's projects.
func Home(projects []Site) ([]byte, error) {
	type row struct {
		Project       release.Project
		Version, Date string
	}
	var rows []row
	for _, s := range projects {
		r := s.latest()
		rows = append(rows, row{r.Manifest.Project, r.Manifest.Version, r.Published.UTC().Format("2 January 2006")})
	}
	style, err := files.ReadFile("templates/style.css")
	if err != nil {
		return nil, err
	}
	return render("home.html", map[string]any{"Rows": rows, "Style": template.CSS(style)})
}

// Missing draws the page for an address that leads nowhere.
func Missing(root string) ([]byte, error) {
	style, err := files.ReadFile("templates/style.css")
	if err != nil {
		return nil, err
	}
	return render("missing.html", map[string]any{"Root": root, "Style": template.CSS(style)})
}

// Feed writes the Atom feed (RFC 4287), the newest published first.
func (s Site) Feed() ([]byte, error) {
	if len(s.Releases) == 0 {
		return nil, layout.ErrUnknown
	}
	list := slices.Clone(s.Releases)
	slices.SortStableFunc(list, func(a, b layout.Release) int { return b.Published.Compare(a.Published) })
	p := s.latest().Manifest.Project
	feed := atomFeed{
		XMLNS: "http://www.w3.org/2005/Atom", Title: p.Name + " releases", Subtitle: p.Summary, ID: urn(p.Name),
		Updated: list[0].Published.UTC().Format(time.RFC3339), Author: atomPerson{author(p)},
	}
	if s.Base != "" {
		feed.Links = []atomLink{{Rel: "self", Href: s.Base + "feed.atom", Type: "application/atom+xml"}, {Rel: "alternate", Href: s.Base, Type: "text/html"}}
	}
	for _, r := range list[:min(50, len(list))] {
		m := r.Manifest
		e := atomEntry{
			Title: p.Name + " " + m.Version, ID: urn(p.Name + " " + m.Version), Updated: r.Published.UTC().Format(time.RFC3339),
			Links:   []atomLink{{Rel: "alternate", Href: s.Base + m.Version + "/", Type: "text/html"}},
			Summary: &atomText{Text: fmt.Sprintf("%d files, made from commit %s of %s.", len(m.Files), m.Commit.ID[:min(10, len(m.Commit.ID))], m.Commit.Time.UTC().Format("2 January 2006"))},
		}
		notes, err := markdown(r.Notes)
		if err != nil {
			return nil, err
		}
		if notes != "" {
			e.Content = &atomText{Type: "html", Text: string(notes)}
		}
		for _, f := range m.Files {
			e.Links = append(e.Links, atomLink{Rel: "enclosure", Href: s.Base + m.Version + "/" + f.Name, Type: f.MediaType, Length: f.Size, Title: f.Name})
		}
		feed.Entries = append(feed.Entries, e)
	}
	out, err := xml.MarshalIndent(feed, "", "  ")
	return append([]byte(xml.Header), append(out, '\n')...), err
}

func author(p release.Project) string {
	name, _, _ := strings.Cut(p.Maintainer, " <")
	if name == "" {
		return p.Name
	}
	return name
}

// urn makes an identity that stays the same wherever the feed is shown: a
// UUID of version 8 (RFC 9562) from a digest.
func urn(text string) string {
	h := sha256.Sum256([]byte("piedmont feed\x00" + text))
	h[6], h[8] = h[6]&0x0f|0x80, h[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", h[:4], h[4:6], h[6:8], h[8:10], h[10:16])
}

type atomFeed struct {
	XMLName  xml.Name    `xml:"feed"`
	XMLNS    string      `xml:"xmlns,attr"`
	Title    string      `xml:"title"`
	Subtitle string      `xml:"subtitle,omitempty"`
	ID       string      `xml:"id"`
	Updated  string      `xml:"updated"`
	Author   atomPerson  `xml:"author"`
	Links    []atomLink  `xml:"link"`
	Entries  []atomEntry `xml:"entry"`
}

type atomPerson struct {
	Name string `xml:"name"`
}

type atomLink struct {
	Rel    string `xml:"rel,attr"`
	Href   string `xml:"href,attr"`
	Type   string `xml:"type,attr,omitempty"`
	Length int64  `xml:"length,attr,omitempty"`
	Title  string `xml:"title,attr,omitempty"`
}

type atomEntry struct {
	Title   string     `xml:"title"`
	ID      string     `xml:"id"`
	Updated string     `xml:"updated"`
	Links   []atomLink `xml:"link"`
	Summary *atomText  `xml:"summary"`
	Content *atomText  `xml:"content"`
}

type atomText struct {
	Type string `xml:"type,attr,omitempty"`
	Text string `xml:",chardata"`
}

// Index is the JSON of all public releases; docs/release-page.md describes it.
type Index struct {
	Format   string          `json:"format"`
	Project  release.Project `json:"project"`
	Latest   string          `json:"latest"`
	Releases []IndexRelease  `json:"releases"`
}

// IndexRelease is one line of the index.
type IndexRelease struct {
	Version   string    `json:"version"`
	Preview   bool      `json:"preview"`
	State     string    `json:"state"`
	Published time.Time `json:"published"`
	Manifest  string    `json:"manifest_sha256"`
	Path      string    `json:"path"` // relative to the index
}

// JSON writes the index.
func (s Site) JSON() ([]byte, error) {
	if len(s.Releases) == 0 {
		return nil, layout.ErrUnknown
	}
	r := s.latest()
	x := Index{Format: "piedmont-index/1", Project: r.Manifest.Project, Latest: r.Manifest.Version}
	for _, r := range s.Releases {
		x.Releases = append(x.Releases, IndexRelease{r.Manifest.Version, r.Manifest.Preview, r.State, r.Published, r.Record.Manifest, r.Manifest.Version + "/"})
	}
	out, err := json.MarshalIndent(x, "", "  ")
	return append(out, '\n'), err
}

// Forward is a page that leads on to another.
func Forward(to string) []byte {
	to = template.HTMLEscapeString(to)
	return []byte("<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>Latest release</title>" +
		"<meta http-equiv=\"refresh\" content=\"0; url=" + to + "\"></head><body><a href=\"" + to + "\">The latest release</a></body></html>\n")
}
