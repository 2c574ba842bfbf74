package preflight

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"piedmont/internal/config"
	"piedmont/internal/publish"
)

// skew is how far a far side's clock may differ.
const skew = 2 * time.Minute

var destinationsCheck = Check{"destinations", func(ctx context.Context, p *Project) []Finding {
	if len(p.Targets) == 0 {
		return advice("no destination takes this version", "add a [destination.NAME] to "+config.FileName)
	}
	found := make([][]Finding, len(p.Targets))
	var group sync.WaitGroup
	for i, t := range p.Targets {
		group.Go(func() { found[i] = inspect(ctx, p, t) })
	}
	group.Wait()
	return slices.Concat(found...)
}}

func inspect(ctx context.Context, p *Project, t *config.Destination) []Finding {
	name := func(text string) string { return t.Name + ": " + text }
	d, err := p.Open(ctx, t)
	if err != nil {
		return refused(name, err)
	}
	look, can := d.(publish.Inspector)
	if !can {
		return ok(name("it cannot be asked in advance"))
	}
	version := ""
	if p.Plan != nil {
		version = p.Plan.Version
	}
	s, err := look.Inspect(ctx, p.Config.Project.Name, version)
	if err != nil {
		return refused(name, err)
	}
	var out []Finding
	if len(s.Lacks) > 0 {
		out = append(out, obstacle(name("the token lacks the right "+strings.Join(s.Lacks, " and ")), "ask whoever runs it for a token with the rights upload and publish")...)
	}
	if !s.Clock.IsZero() {
		if off := time.Since(s.Clock).Abs(); off > skew {
			out = append(out, advice(name(fmt.Sprintf("its clock and this machine's differ by %s", off.Round(time.Second))), "set this machine's clock")...)
		}
	}
	if s.Public != "" {
		out = append(out, advice(name(fmt.Sprintf("%s is public there already; shipping it again must give the same files", s.Public)), "")...)
	}
	if len(out) == 0 {
		out = ok(name(s.Says))
	}
	return out
}

func refused(name func(string) string, err error) []Finding {
	var r *publish.Refusal
	if errors.As(err, &r) {
		return obstacle(name(r.Reason), r.Mend)
	}
	what, mend, _ := strings.Cut(err.Error(), "\n")
	return obstacle(name(what), mend)
}
