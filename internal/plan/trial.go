package plan

import (
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
	"piedmont/internal/config"
)

// Trial is one command for one archive.
type Trial struct {
	Name     string         `json:"name"`
	File     string         `json:"file"` // the archive
	Bundle   string         `json:"bundle"`
	Platform string         `json:"platform,omitempty"`
	Dir      string         `json:"dir,omitempty"` // in the archive, where it runs
	Run      []string       `json:"run"`           // the program's path below Dir, and its arguments
	Expect   config.Outcome `json:"expect"`
	Within   time.Duration  `json:"-"`
	Seconds  float64        `json:"within_seconds"`
	Required bool           `json:"required"`
	Env      []string       `json:"env,omitempty"`
}

// trials plans each trial for every archive that its bundle comes out as.
func (p *planner) trials() {
	for _, t := range p.c.Trials {
		for _, a := range p.plan.Archives {
			if a.Bundle != t.Bundle {
				continue
			}
			on, err := platform.Parse(a.Platform)
			if err == nil && len(t.Platforms.Given) > 0 && !slices.Contains(t.Platforms.List, on) {
				continue
			}
			p.trial(t, a, on)
		}
	}
}

func (p *planner) trial(t *config.Trial, a Archive, on platform.Platform) {
	v := p.platformValues(on)
	v["bundle"], v["platform"] = a.Bundle, a.Platform
	within, err := time.ParseDuration(t.Within)
	if err != nil {
		p.failOnce("trial %q: %q is not a time", t.Name, t.Within)
		return
	}
	one := Trial{Name: t.Name, File: a.File, Bundle: a.Bundle, Platform: a.Platform, Dir: a.Folder, Required: t.Required, Within: within, Seconds: within.Seconds(), Expect: t.Expect}
	one.Run = p.fillAll(t.Run, v)
	one.Expect.Is = p.fill(t.Expect.Is, v)
	one.Expect.Contains = p.fillAll(t.Expect.Contains, v)
	for key, text := range t.Env {
		one.Env = append(one.Env, key+"="+p.fill(text, v))
	}
	slices.Sort(one.Env)
	if one.Run[0], err = programIn(a, one.Run[0], on); err != nil {
		p.failOnce("trial %q: the bundle %s holds no file %s; change \"run\" in [trial.%s]", t.Name, a.Bundle, t.Run[0], t.Name)
		return
	}
	p.plan.Trials = append(p.plan.Trials, one)
}

func (p *planner) fillAll(texts []string, v placeholder.Values) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = p.fill(t, v)
	}
	return out
}

var errNoProgram = errors.New("no such program")

// programIn finds the program among what the archive will hold. With a tree in
// it, that is not known before it is made.
func programIn(a Archive, name string, on platform.Platform) (string, error) {
	names := []string{path.Clean(name), on.Executable(path.Clean(name))}
	trees := false
	for _, e := range a.Entries {
		for _, n := range names {
			if !e.Tree && e.Path == path.Join(a.Folder, n) {
				return n, nil
			}
		}
		trees = trees || e.Tree
	}
	if !trees {
		return name, errNoProgram
	}
	if strings.Contains(path.Base(name), ".") {
		return names[0], nil
	}
	return names[1], nil
}
