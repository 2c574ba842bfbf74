// Package site draws the public face of a project's releases: pages for people,
// an Atom feed and a JSON index. All of it is computed from the releases, so a
// server can draw it when asked and a folder can hold it as files.
package site

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"time"

	"github.com/yuin/goldmark"

	"piedmont/internal/base/semver"
	"piedmont/internal/release"
)

//go:embed templates
var files embed.FS

var pages = template.Must(template.New("").ParseFS(files, "templates/*.html"))

// Site is one project with its public releases, the highest version first.
type Site struct {
	Releases []release.Release
	// Base is the absolute address of the project's page with a slash at its
	// end, or "" when it is not known; only the feed needs it.
	Base string
	// Present places the files of kinds that this package does not know; nil knows none.
	Present Presenter
}

// ErrNothing means that a project has no release to show.
var ErrNothing = errors.New("nothing is published")

func (s Site) latest() release.Release {
	r, _ := release.Latest(s.Releases)
	return r
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
		return nil, ErrNothing
	}
	r := s.latest()
	return s.page(r, "./", r.Manifest.Version+"/")
}

// Release draws the page of one release, to be shown in its folder.
func (s Site) Release(r release.Release) ([]byte, error) { return s.page(r, "../", "./") }

func (s Site) page(r release.Release, root, here string) ([]byte, error) {
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
		Preview: m.Preview, Newest: s.latest().Manifest.Version == m.Version, Groups: s.groups(m), Root: root,
		Here:  here,
		Style: template.CSS(style), Script: template.JS(script),
	}
	for _, f := range m.Files {
		v.Files = append(v.Files, s.line(f))
	}
	if v.Notes, err = markdown(r.Notes); err != nil {
		return nil, err
	}
	for _, o := range s.Releases {
		v.Others = append(v.Others, other{o.Manifest.Version, o.Published.UTC().Format("2 January 2006"),
			semver.IsPrerelease(o.Manifest.Version), o.Manifest.Version == m.Version})
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

// Forward is a page that leads on to another.
func Forward(to string) []byte {
	to = template.HTMLEscapeString(to)
	return []byte("<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>Latest release</title>" +
		"<meta http-equiv=\"refresh\" content=\"0; url=" + to + "\"></head><body><a href=\"" + to +
		"\">The latest release</a></body></html>\n")
}
