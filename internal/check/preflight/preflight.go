// Package preflight finds what stands in the way of a release before anything is
// compiled. A check is one small unit with a name; they run side by side, none
// stops another, and each obstacle comes with what mends it.
package preflight

import (
	"context"
	"sync"
	"time"

	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/publish"
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
	Config     *config.Config
	Facts      git.Facts
	Repo       git.Repo
	Plan       *plan.Plan
	PlanErrors []string
	Tools      *lang.Tools
	Finder     *toolchain.Finder
	Targets    []*config.Destination
	Open       func(context.Context, *config.Destination) (publish.Destination, error)
	// PreviewFits says that all targets take previews, so that an untagged or
	// changed tree is no obstacle.
	PreviewFits bool
}

// Check is one unit.
type Check struct {
	Name string
	Run  func(context.Context, *Project) []Finding
}

// Checks are all there are, in the order in which they are told.
var Checks = []Check{
	cleanCheck, committedCheck, historyCheck, tagCheck, pushedCheck,
	mirrorsCheck, newerCheck,
	namesCheck, trackedCheck, secretsInFilesCheck,
	toolchainCheck, compilersCheck, trialsCheck, spaceCheck,
	destinationsCheck,
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

func ok(what string) []Finding { return []Finding{{State: OK, What: what}} }

func obstacle(what, mend string) []Finding {
	return []Finding{{State: Obstacle, What: what, Mend: mend}}
}

func advice(what, mend string) []Finding { return []Finding{{State: Advice, What: what, Mend: mend}} }

// unlessPreview makes an obstacle an advice where previews are welcome.
func (p *Project) unlessPreview(list []Finding) []Finding {
	if p.PreviewFits {
		for i := range list {
			if list[i].State == Obstacle {
				list[i].State = Advice
			}
		}
	}
	return list
}

// failed reports a check that could not be made: that is an obstacle too.
func failed(err error) []Finding { return obstacle("this could not be checked: "+err.Error(), "") }
