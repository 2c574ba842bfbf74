package version

import (
	_ "embed"
	"fmt"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/project/version/place"
)

//go:embed keys.md
var docs string

// SourceTag is the source of versions that are git tags alone.
const SourceTag = "tag"

// Keys are those of [version].
type Keys struct {
	Source string   `toml:"source" default:"\"tag\""`
	Tag    string   `toml:"tag" default:"\"v{version}\"" fill:"version"`
	Tags   string   `toml:"tags" default:"\"any\"" choice:"any annotated signed"`
	Mirror []string `toml:"mirror"`

	Pattern Pattern       // of Tag
	Place   *place.Place  // of Source, nil for the tag
	Mirrors []place.Place // of Mirror
}

// Table describes [version].
func Table() config.Table {
	return config.Table{Name: "version", Keys: func() any { return &Keys{} }, Docs: []string{docs}, Check: check}
}

// Of gives the keys of a description.
func Of(d *config.Document) *Keys { return config.One[Keys](d, "version") }

// Places are all that carry the version.
func (k *Keys) Places() []place.Place {
	var out []place.Place
	if k.Place != nil {
		out = append(out, *k.Place)
	}
	return append(out, k.Mirrors...)
}

func check(f *config.Faults, d *config.Document) {
	k := Of(d)
	var err error
	k.Pattern, err = ParsePattern(k.Tag)
	if err != nil && f.Given("version.tag") && strings.Count(k.Tag, "{") < 2 {
		f.Fail("version.tag", err.Error(), "")
	}
	if k.Source != SourceTag {
		p, err := place.Parse(k.Source)
		if err != nil {
			f.Fail("version.source", err.Error(), "write \"tag\", or a place such as \"Cargo.toml:package.version\"")
		}
		k.Place = &p
	}
	for i, m := range k.Mirror {
		p, err := place.Parse(m)
		if err != nil {
			f.Fail(fmt.Sprintf("version.mirror.%d", i), err.Error(), "")
		}
		k.Mirrors = append(k.Mirrors, p)
	}
}
