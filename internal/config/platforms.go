package config

import (
	"fmt"
	"slices"

	"piedmont/internal/base/near"
	"piedmont/internal/base/platform"
	"piedmont/internal/format/tomltree"
)

const platformsTable = "platforms"

// PlatformSets is the table [platforms].
type PlatformSets []PlatformSet

// PlatformSet is one of its entries.
type PlatformSet struct {
	Name string
	List []platform.Platform
}

// PlatformsTable describes [platforms].
func PlatformsTable() Table {
	return Table{Name: platformsTable, Keys: func() any { return &PlatformSets{} }, Docs: []string{`
Named sets of platforms: each key is a set's name, each value a list of platforms.

# NAME

The platforms of the set, as os/arch or os/arch/variant.

    servers = ["linux/amd64", "linux/arm64"]
`}}
}

// Read reads the sets.
func (s *PlatformSets) Read(r *Reader, n *Node, where string, _ []string) {
	if n.Kind != tomltree.Table {
		r.Expected(n, "a table of lists")
		return
	}
	for _, name := range n.Keys {
		at := where + "." + name
		set := PlatformSet{Name: name}
		r.Mark(at, n.Get(name).KeyPos)
		list := r.Texts(n.Get(name).Node, at, "a list of platforms")
		for i, text := range list {
			place := fmt.Sprintf("%s.%d", at, i)
			p, err := platform.Parse(text)
			if err != nil {
				r.Fail(place, err.Error(), "")
				continue
			}
			r.platform(p, place)
			set.List = append(set.List, p)
		}
		if n.Get(name).Node.Kind == tomltree.Array && len(list) == 0 {
			r.Fail(at, fmt.Sprintf("the platform set %q is empty", name), "")
		}
		*s = append(*s, set)
	}
}

// Shape is a table of lists.
func (*PlatformSets) Shape([]string) Shape {
	return Shape{"table of lists", map[string]any{"type": "object", "additionalProperties": listSchema(textSchema())}}
}

// platform reports one that has no name here, or a variant that there is none of.
func (r *Reader) platform(p platform.Platform, where string) {
	if !platform.Known(p.Base()) {
		hint := near.Question(p.Base(), platform.All())
		if hint == "" {
			hint = "common ones are linux/amd64, linux/arm64, darwin/arm64 and windows/amd64"
		}
		r.Fail(where, fmt.Sprintf("there is no platform %q", p.Base()), hint)
		return
	}
	if err := p.CheckVariant(); err != nil {
		r.Fail(where, err.Error(), "")
	}
}

// Platforms is a choice of platforms: names of sets and platforms, resolved
// into List when the whole file is known.
type Platforms struct {
	Given []string
	List  []platform.Platform
}

// Read reads the choice.
func (p *Platforms) Read(r *Reader, n *Node, where string, _ []string) {
	r.platforms = append(r.platforms, pendingPlatforms{p, where})
	if n.Kind == tomltree.String {
		p.Given = []string{n.Text}
		r.Mark(where+".0", n.Pos)
		return
	}
	p.Given = r.Texts(n, where, "the name of a platform set, or a list of platforms and sets")
}

// Shape is a text or a list.
func (*Platforms) Shape([]string) Shape {
	return Shape{"text or list of texts", anyOf(textSchema(), listSchema(textSchema()))}
}

// resolvePlatforms turns names of sets and platforms into a list without repetition.
func (r *Reader) resolvePlatforms(p *Platforms, where string, sets *PlatformSets) {
	var names []string
	if sets != nil {
		for _, s := range *sets {
			names = append(names, s.Name)
		}
	}
	for i, name := range p.Given {
		at := fmt.Sprintf("%s.%d", where, i)
		var list []platform.Platform
		if k := slices.Index(names, name); k >= 0 {
			list = (*sets)[k].List
		} else if one, err := platform.Parse(name); err == nil {
			r.platform(one, at)
			list = []platform.Platform{one}
		} else {
			r.UnknownName(at, "platform set", name, names)
		}
		for _, one := range list {
			if !slices.Contains(p.List, one) {
				p.List = append(p.List, one)
			}
		}
	}
}
