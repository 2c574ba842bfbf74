package site

import (
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
	"time"

	"piedmont/internal/release"
)

// Feed writes the Atom feed (RFC 4287), the newest published first.
func (s Site) Feed() ([]byte, error) {
	if len(s.Releases) == 0 {
		return nil, ErrNothing
	}
	list := slices.Clone(s.Releases)
	slices.SortStableFunc(list, func(a, b release.Release) int { return b.Published.Compare(a.Published) })
	p := s.latest().Manifest.Project
	feed := atomFeed{
		XMLNS: "http://www.w3.org/2005/Atom", Title: p.Name + " releases", Subtitle: p.Summary, ID: urn(p.Name),
		Updated: list[0].Published.UTC().Format(time.RFC3339), Author: atomPerson{author(p)},
	}
	if s.Base != "" {
		feed.Links = []atomLink{{Rel: "self", Href: s.Base + "feed.atom", Type: "application/atom+xml"},
			{Rel: "alternate", Href: s.Base, Type: "text/html"}}
	}
	for _, r := range list[:min(50, len(list))] {
		m := r.Manifest
		e := atomEntry{
			Title: p.Name + " " + m.Version, ID: urn(p.Name + " " + m.Version),
			Updated: r.Published.UTC().Format(time.RFC3339),
			Links:   []atomLink{{Rel: "alternate", Href: s.Base + m.Version + "/", Type: "text/html"}},
			Summary: &atomText{Text: fmt.Sprintf("%d files, made from commit %s of %s.", len(m.Files),
				m.Commit.ID[:min(10, len(m.Commit.ID))], m.Commit.Time.UTC().Format("2 January 2006"))},
		}
		notes, err := markdown(r.Notes)
		if err != nil {
			return nil, err
		}
		if notes != "" {
			e.Content = &atomText{Type: "html", Text: string(notes)}
		}
		for _, f := range m.Files {
			e.Links = append(e.Links, atomLink{Rel: "enclosure", Href: s.Base + m.Version + "/" + f.Name,
				Type: f.MediaType, Length: f.Size, Title: f.Name})
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
