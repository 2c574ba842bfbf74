package linuxpkg

import (
	"fmt"
	"regexp"
	"strings"
)

// Relation names packages of which one must, or must not, be there.
type Relation struct {
	Any []Name // alternatives; mostly one
}

// Name is a package, perhaps in some of its versions.
type Name struct {
	Name    string
	Op      string // <, <=, =, >=, > or ""
	Version string
}

var relationForm = regexp.MustCompile(`^([A-Za-z0-9_@/][A-Za-z0-9_@/.:+()~-]*)\s*(?:(<=|>=|<|>|=)\s*([^\s<>=]\S*))?$`)

// ParseRelation reads NAME, NAME OP VERSION, or several with "|" between.
func ParseRelation(s string) (Relation, error) {
	var r Relation
	for _, part := range strings.Split(s, "|") {
		m := relationForm.FindStringSubmatch(strings.TrimSpace(part))
		if m == nil {
			return r, fmt.Errorf("%q is not a relation: write a name, and perhaps <, <=, =, >= or > with a version, "+
				"as in \"hutline-tools >= 1.2\"; alternatives have | between them", s)
		}
		r.Any = append(r.Any, Name{m[1], m[2], m[3]})
	}
	return r, nil
}

// Simple is a relation to one package.
func Simple(name, op, version string) Relation { return Relation{Any: []Name{{name, op, version}}} }

// Spelled gives a name's version as a format writes it. One that is no SemVer is
// taken as it is written: other projects count as they like.
func (n Name) Spelled(w Words) string {
	if v, err := w.Version(n.Version); err == nil {
		return v
	}
	return n.Version
}

// OneName gives the name of a relation without alternatives, for formats that
// have none.
func (r Relation) OneName(format string) (Name, error) {
	if len(r.Any) > 1 {
		return Name{}, fmt.Errorf("packages of the format %s have no alternatives (%s): name one of them "+
			"for it, with [package.NAME.%s]", format, r, format)
	}
	return r.Any[0], nil
}

// Joined writes NAMEOPVERSION, for formats without alternatives.
func (r Relation) Joined(format string, w Words) (string, error) {
	n, err := r.OneName(format)
	if err != nil || n.Op == "" {
		return n.Name, err
	}
	return n.Name + n.Op + n.Spelled(w), nil
}

// String is the relation as people wrote it.
func (r Relation) String() string {
	parts := make([]string, len(r.Any))
	for i, n := range r.Any {
		parts[i] = strings.TrimSpace(n.Name + " " + n.Op + " " + n.Version)
	}
	return strings.Join(parts, " | ")
}

// Relations are those of a package as its format has them, by the key that
// declares them.
func (p *Package) Relations() (map[string][]string, error) {
	out := map[string][]string{}
	for key, list := range map[string][]Relation{"needs": p.Needs, "recommends": p.Recommends, "suggests": p.Suggests,
		"conflicts": p.Conflicts, "replaces": p.Replaces, "provides": p.Provides} {
		all, err := WriteAll(p.Format, list)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
		if len(all) > 0 {
			out[key] = all
		}
	}
	return out, nil
}

// WriteAll writes relations, each as the format has it.
func WriteAll(w Words, list []Relation) ([]string, error) {
	var out []string
	for _, r := range list {
		s, err := w.Relation(r)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}
