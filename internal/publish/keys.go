package publish

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"piedmont/internal/base/environ"
	"piedmont/internal/check"
	"piedmont/internal/config"
	"piedmont/internal/plan"
	"piedmont/internal/project"
)

//go:embed keys.md
var docs string

// Keys are those that every [destination.NAME] has.
type Keys struct {
	Name     string
	Kind     string `toml:"kind" need:"yes"`
	Previews bool   `toml:"previews" default:"false"`
	Own      any    // the kind's keys
}

// Kind is a kind of destination with its own keys.
type Kind interface {
	Name() string
	Keys() any // a new struct
	Docs() []string
	// Check holds a destination's keys against what the kind can do.
	Check(f *config.Faults, k *Keys, where string)
	// Where names the destination for people.
	Where(k *Keys) string
	Open(ctx context.Context, env Env, k *Keys) (Destination, error)
}

// Env is what a destination is opened in.
type Env struct {
	Root string // the project's folder
	Env  environ.Env
}

// Part plans destinations and opens them.
type Part struct {
	Kinds []Kind
	Env   environ.Env
}

// Of gives the destinations of a description.
func Of(d *config.Document) []*Keys { return config.Named[Keys](d, "destination") }

// Find gives one by its name; nil when there is none.
func Find(d *config.Document, name string) *Keys {
	for _, k := range Of(d) {
		if k.Name == name {
			return k
		}
	}
	return nil
}

func (p Part) kind(name string) Kind {
	for _, k := range p.Kinds {
		if k.Name() == name {
			return k
		}
	}
	return nil
}

// Table describes [destination.NAME].
func (p Part) Table() config.Table {
	t := config.Table{Name: "destination", Named: true, Keys: func() any { return &Keys{} },
		Docs: []string{docs}, By: "kind"}
	for _, k := range p.Kinds {
		t.Alternatives = append(t.Alternatives, config.Alternative{Name: k.Name(), Keys: k.Keys, Docs: k.Docs()})
	}
	t.Check = func(f *config.Faults, d *config.Document) {
		for _, k := range Of(d) {
			if kind := p.kind(k.Kind); kind != nil && k.Own != nil {
				kind.Check(f, k, "destination."+k.Name)
			}
		}
	}
	return t
}

// Plan tells where the files go.
func (p Part) Plan(c *plan.Context) {
	for _, k := range Of(c.Doc) {
		c.Plan.Destinations = append(c.Plan.Destinations, plan.Destination{
			Name: k.Name, Kind: k.Kind, Where: p.kind(k.Kind).Where(k), Takes: !c.Plan.Preview || k.Previews})
	}
}

// Open makes a destination of its description.
func (p Part) Open(ctx context.Context, d *config.Document, name string) (Destination, error) {
	k := Find(d, name)
	if k == nil {
		return nil, fmt.Errorf("there is no destination %q", name)
	}
	return p.kind(k.Kind).Open(ctx, Env{d.Dir, p.Env}, k)
}

// Inspector is a destination that can be asked in advance, without changing it.
type Inspector interface {
	Inspect(ctx context.Context, project, version string) (Inspection, error)
}

// Inspection is what a destination says of itself.
type Inspection struct {
	Says   string    // in a few words, when all is well
	Lacks  []string  // rights that publishing needs and the token has not
	Clock  time.Time // the destination's, zero when not known
	Public string    // the version, when it is public there
}

// skew is how far a destination's clock may differ.
const skew = 2 * time.Minute

// PreflightCheck asks every destination whether it can be published to.
func (p Part) PreflightCheck() check.Check {
	return check.Check{Name: "destinations", Run: func(ctx context.Context, pr *check.Project) []check.Finding {
		if len(pr.Destinations) == 0 {
			return check.Advises("no destination takes this version", "add a [destination.NAME] to "+config.FileName)
		}
		found := make([][]check.Finding, len(pr.Destinations))
		var group sync.WaitGroup
		for i, name := range pr.Destinations {
			group.Go(func() { found[i] = p.inspect(ctx, pr, name) })
		}
		group.Wait()
		return slices.Concat(found...)
	}}
}

func (p Part) inspect(ctx context.Context, pr *check.Project, name string) []check.Finding {
	of := func(text string) string { return name + ": " + text }
	d, err := p.Open(ctx, pr.Doc, name)
	if err != nil {
		return check.Refused(err, of)
	}
	look, can := d.(Inspector)
	if !can {
		return check.Fine(of("it cannot be asked in advance"))
	}
	version := ""
	if pr.Plan != nil {
		version = pr.Plan.Version
	}
	s, err := look.Inspect(ctx, project.Of(pr.Doc).Name, version)
	if err != nil {
		return check.Refused(err, of)
	}
	var out []check.Finding
	if len(s.Lacks) > 0 {
		out = append(out, check.Stops(of("the token lacks the right "+strings.Join(s.Lacks, " and ")),
			"ask whoever runs it for a token with the rights upload and publish")...)
	}
	if off := time.Since(s.Clock).Abs(); !s.Clock.IsZero() && off > skew {
		out = append(out, check.Advises(of(fmt.Sprintf("its clock and this machine's differ by %s",
			off.Round(time.Second))), "set this machine's clock")...)
	}
	if s.Public != "" {
		out = append(out, check.Advises(of(fmt.Sprintf("%s is public there already; shipping it again must "+
			"give the same files", s.Public)), "")...)
	}
	if len(out) == 0 {
		out = check.Fine(of(s.Says))
	}
	return out
}
