package site

import (
	"encoding/json"
	"time"

	"piedmont/internal/release"
)

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
		return nil, ErrNothing
	}
	r := s.latest()
	x := Index{Format: "piedmont-index/1", Project: r.Manifest.Project, Latest: r.Manifest.Version}
	for _, r := range s.Releases {
		x.Releases = append(x.Releases, IndexRelease{r.Manifest.Version, r.Manifest.Preview, r.State,
			r.Published, r.Record.Manifest, r.Manifest.Version + "/"})
	}
	out, err := json.MarshalIndent(x, "", "  ")
	return append(out, '\n'), err
}
