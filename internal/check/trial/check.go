package trial

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/check"
)

// PreflightCheck looks for what runs the programs of each trial's platform.
func (Part) PreflightCheck() check.Check { return check.Check{Name: "trials", Run: preflight} }

func preflight(_ context.Context, p *check.Project) []check.Finding {
	if p.Plan == nil || len(In(p.Plan)) == 0 {
		return nil
	}
	var out []check.Finding
	var can, cannot, told []string
	for _, t := range In(p.Plan) {
		on, err := platform.Parse(t.Platform)
		if err != nil {
			on = platform.Host()
		}
		_, why, mend := Emulator(on)
		list := &can
		if why != "" {
			list = &cannot
		}
		if !slices.Contains(*list, on.String()) {
			*list = append(*list, on.String())
		}
		if key := t.Name + " " + on.String(); why != "" && t.Required && !slices.Contains(told, key) {
			told = append(told, key)
			if mend == "" {
				mend = "run this on a machine that can, or take required out of [trial." + t.Name + "]"
			}
			out = append(out, check.Stops(fmt.Sprintf("trial %q is required on %s, and %s", t.Name, on, why), mend)...)
		}
	}
	if len(out) > 0 {
		return out
	}
	what := "can be run for " + check.Platforms(can)
	if len(can) == 0 {
		what = "none can be run here"
	}
	if len(cannot) > 0 {
		what += "; not for " + strings.Join(cannot, ", ")
	}
	return check.Fine(what)
}
