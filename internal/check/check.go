// Package check is what is looked for before anything is compiled: a check is one
// small unit with a name, and each obstacle that it finds comes with what mends it.
// Checks of what belongs to a package stand there; all others are in preflight.
package check

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"piedmont/internal/base/fault"
	"piedmont/internal/config"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
)

// States of a finding.
const (
	OK       = "ok"
	Advice   = "advice"   // worth mending, and nothing stops for it
	Obstacle = "obstacle" // a release cannot be made like this
)

// Finding is what a check found.
type Finding struct {
	Check string `json:"check"`
	State string `json:"state"`
	What  string `json:"what"`
	Mend  string `json:"mend,omitempty"` // a command or an edit
	// Seconds is how long the check took.
	Seconds float64 `json:"seconds"`
}

// Project is what the checks look at. Plan is nil when it could not be made;
// PlanErrors say why then.
type Project struct {
	Doc        *config.Document
	Facts      git.Facts
	Repo       git.Repo
	Plan       *plan.Plan
	PlanErrors []string
	// Destinations are the names of those that are looked at.
	Destinations []string
	// PreviewFits says that all of them take previews, so that an untagged or
	// changed tree is no obstacle.
	PreviewFits bool
}

// Check is one unit.
type Check struct {
	Name string
	Run  func(context.Context, *Project) []Finding
}

// Run makes all checks at once; the findings come in the order of the checks.
func Run(ctx context.Context, p *Project, checks []Check) []Finding {
	found := make([][]Finding, len(checks))
	var group sync.WaitGroup
	for i, c := range checks {
		group.Go(func() {
			start := time.Now()
			found[i] = c.Run(ctx, p)
			for k := range found[i] {
				found[i][k].Check, found[i][k].Seconds = c.Name, time.Since(start).Seconds()
			}
		})
	}
	group.Wait()
	var out []Finding
	for _, list := range found {
		out = append(out, list...)
	}
	return out
}

// Obstacles counts those that stop a release.
func Obstacles(list []Finding) int {
	n := 0
	for _, f := range list {
		if f.State == Obstacle {
			n++
		}
	}
	return n
}

// Fine is a finding that all is well.
func Fine(what string) []Finding { return []Finding{{State: OK, What: what}} }

// Stops is a finding that stops a release.
func Stops(what, mend string) []Finding {
	return []Finding{{State: Obstacle, What: what, Mend: mend}}
}

// Advises is a finding that is worth mending.
func Advises(what, mend string) []Finding { return []Finding{{State: Advice, What: what, Mend: mend}} }

// Failed reports a check that could not be made: that is an obstacle too.
func Failed(err error) []Finding { return Stops("this could not be checked: "+err.Error(), "") }

// Refused reports an error with what mends it. what names whose it is.
func Refused(err error, what func(string) string) []Finding {
	said, fix := fault.Parts(err)
	return Stops(what(said), fix)
}

// UnlessPreview makes an obstacle an advice where previews are welcome.
func (p *Project) UnlessPreview(list []Finding) []Finding {
	if p.PreviewFits {
		for i := range list {
			if list[i].State == Obstacle {
				list[i].State = Advice
			}
		}
	}
	return list
}

// Count writes a number with its noun.
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Some names a few of a list.
func Some(list []string, most int) string {
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return strings.Join(list[:most], ", ") + fmt.Sprintf(" and %d more", len(list)-most)
}

// Platforms names a few, or counts many.
func Platforms(list []string) string {
	if len(list) > 4 {
		return fmt.Sprintf("all %d platforms", len(list))
	}
	return strings.Join(list, ", ")
}
