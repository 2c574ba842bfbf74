package trial

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"time"

	"piedmont/internal/archive/bundle"
	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/plan"
)

//go:embed keys.md
var docs string

// Keys are those of [trial.NAME].
type Keys struct {
	Name      string
	Bundle    string            `toml:"bundle" need:"yes" ref:"bundle"`
	Run       []string          `toml:"run" need:"yes"`
	Expect    Outcome           `toml:"expect"`
	Within    string            `toml:"within" default:"\"60s\""`
	Required  bool              `toml:"required" default:"false"`
	Platforms config.Platforms  `toml:"platforms"`
	Env       map[string]string `toml:"env"`
}

// Outcome is what a trial must bring about.
type Outcome struct {
	Status   int          `toml:"status" json:"status"`
	Is       string       `toml:"is" short:"yes" json:"is,omitempty"`
	Contains config.Texts `toml:"contains" json:"contains,omitempty"`
	Matches  string       `toml:"matches" json:"matches,omitempty"`
	File     string       `toml:"file" json:"file,omitempty"`
}

// Words are those of faults.
func (*Outcome) Words() config.Words {
	return config.Words{Name: "expect", One: "the output, or a table with what is expected"}
}

// Longest bounds what may be declared.
const Longest = 6 * time.Hour

// Part plans trials.
type Part struct{}

// Table describes [trial.NAME].
func (Part) Table() config.Table {
	return config.Table{Name: "trial", Named: true, Keys: func() any { return &Keys{} }, Docs: []string{docs},
		Check: func(f *config.Faults, d *config.Document) {
			for _, k := range Of(d) {
				k.check(f, "trial."+k.Name)
			}
		}}
}

// Of gives the trials of a description.
func Of(d *config.Document) []*Keys { return config.Named[Keys](d, "trial") }

func (k *Keys) check(f *config.Faults, where string) {
	if d, err := time.ParseDuration(k.Within); err != nil || d <= 0 || d > Longest {
		f.Fail(where+".within", fmt.Sprintf("%q is not a time that a trial can take", k.Within),
			"write it as in \"10s\" or \"2m\"")
	}
	if k.Expect.Status > 255 {
		f.Fail(where+".expect.status", "expected an exit status from 0 to 255, found a number", "")
	}
	names := append(slices.Clone(lang.Placeholders[:len(lang.Placeholders)-1]), "bundle")
	for i, text := range k.Run {
		f.Placeholders(fmt.Sprintf("%s.run.%d", where, i), text, names)
	}
	if len(k.Run) == 0 && f.Given(where+".run") {
		f.Fail(where+".run", "a trial runs at least a program", "")
	}
	if len(k.Run) > 0 {
		f.Inside(where+".run.0", k.Run[0])
	}
	for key, text := range k.Env {
		f.Placeholders(where+".env."+key, text, names)
	}
	f.Placeholders(where+".expect.is", k.Expect.Is, names)
	for i, text := range k.Expect.Contains {
		f.Placeholders(fmt.Sprintf("%s.expect.contains.%d", where, i), text, names)
	}
	f.Inside(where+".expect.file", k.Expect.File)
	if _, err := regexp.Compile(k.Expect.Matches); err != nil {
		f.Fail(where+".expect.matches", fmt.Sprintf("%q is not a pattern: %v", k.Expect.Matches, err), "")
	}
}

// Trial is one command for one archive.
type Trial struct {
	Name     string
	File     string // the archive
	Bundle   string
	Platform string
	Dir      string   // in the archive, where it runs
	Run      []string // the program's path below Dir, and its arguments
	Expect   Outcome
	Within   time.Duration
	Required bool
	Env      []string
}

// MarshalJSON writes a trial as a plan tells it.
func (t Trial) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Name     string   `json:"name"`
		File     string   `json:"file"`
		Bundle   string   `json:"bundle"`
		Platform string   `json:"platform,omitempty"`
		Dir      string   `json:"dir,omitempty"`
		Run      []string `json:"run"`
		Expect   Outcome  `json:"expect"`
		Seconds  float64  `json:"within_seconds"`
		Required bool     `json:"required"`
		Env      []string `json:"env,omitempty"`
	}{t.Name, t.File, t.Bundle, t.Platform, t.Dir, t.Run, t.Expect, t.Within.Seconds(), t.Required, t.Env})
}

const section = "trials"

// In gives the trials of a plan.
func In(p *plan.Plan) []Trial { return plan.Get[[]Trial](p, section) }

// Plan plans each trial for every archive that its bundle comes out as.
func (Part) Plan(c *plan.Context) {
	var out []Trial
	for _, k := range Of(c.Doc) {
		for _, a := range bundle.In(c.Plan) {
			if a.Bundle != k.Bundle {
				continue
			}
			on, err := platform.Parse(a.Platform)
			if err == nil && len(k.Platforms.Given) > 0 && !slices.Contains(k.Platforms.List, on) {
				continue
			}
			if t, ok := k.plan(c, a, on); ok {
				out = append(out, t)
			}
		}
	}
	if len(out) > 0 {
		c.Plan.Set(section, out)
	}
}

func (k *Keys) plan(c *plan.Context, a *bundle.Archive, on platform.Platform) (Trial, bool) {
	v := c.PlatformValues(on)
	v["bundle"], v["platform"] = a.Bundle, a.Platform
	within, err := time.ParseDuration(k.Within)
	if err != nil {
		c.FailOnce("trial %q: %q is not a time", k.Name, k.Within)
		return Trial{}, false
	}
	t := Trial{Name: k.Name, File: a.File, Bundle: a.Bundle, Platform: a.Platform, Dir: a.Folder,
		Required: k.Required, Within: within, Expect: k.Expect}
	t.Run = c.FillAll(k.Run, v)
	t.Expect.Is = c.Fill(k.Expect.Is, v)
	t.Expect.Contains = c.FillAll(k.Expect.Contains, v)
	for key, text := range k.Env {
		t.Env = append(t.Env, key+"="+c.Fill(text, v))
	}
	slices.Sort(t.Env)
	var ok bool
	if t.Run[0], ok = a.ProgramIn(t.Run[0], on); !ok {
		c.FailOnce("trial %q: the bundle %s holds no file %s; change \"run\" in [trial.%s]", k.Name, a.Bundle,
			k.Run[0], k.Name)
	}
	return t, ok
}
