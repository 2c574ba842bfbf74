package preflight

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/check/trial"
)

// trialsCheck looks for what runs the programs of each trial's platform.
var trialsCheck = Check{"trials", func(_ context.Context, p *Project) []Finding {
	if p.Plan == nil || len(p.Plan.Trials) == 0 {
		return nil
	}
	var out []Finding
	var can, cannot, told []string
	for _, t := range p.Plan.Trials {
		on, err := platform.Parse(t.Platform)
		if err != nil {
			on = platform.Host()
		}
		_, why, mend := trial.Emulator(on)
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
			out = append(out, obstacle(fmt.Sprintf("trial %q is required on %s, and %s", t.Name, on, why), mend)...)
		}
	}
	if len(out) > 0 {
		return out
	}
	what := "can be run for " + platforms(can)
	if len(can) == 0 {
		what = "none can be run here"
	}
	if len(cannot) > 0 {
		what += "; not for " + strings.Join(cannot, ", ")
	}
	return ok(what)
}}
