package preflight

import (
	"context"
	"fmt"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/project/version"
)

var mirrorsCheck = Check{"mirrors", func(_ context.Context, p *Project) []Finding {
	want, where := "", ""
	if pl := p.Config.Version.Place; pl != nil {
		v, err := pl.Read(p.Config.Dir)
		if err != nil {
			return obstacle("the version's source: "+err.Error(), "correct it, or version.source in "+config.FileName)
		}
		if !version.Valid(v) {
			return obstacle(fmt.Sprintf("%s says %q, which is not a version as SemVer 2.0 writes it", pl, v), fmt.Sprintf("write a version such as 1.4.0 into %s", pl.File))
		}
		want, where = v, pl.String()
	}
	if tag, v := p.Config.Version.Pattern.Highest(p.Facts.Here); v != nil {
		if want != "" && want != v.String() {
			return obstacle(fmt.Sprintf("HEAD is tagged %s, but %s says %s", tag, where, want), fmt.Sprintf("git tag --delete %s && piedmont cut", tag))
		}
		want, where = v.String(), "the tag "+tag
	}
	var out []Finding
	for _, m := range p.Config.Version.Mirrors {
		have, err := m.Read(p.Config.Dir)
		switch {
		case err != nil:
			out = append(out, obstacle("a mirror of the version: "+err.Error(), "correct it, or version.mirror in "+config.FileName)...)
		case want != "" && have != want:
			out = append(out, obstacle(fmt.Sprintf("%s says %s, but %s says %s", m, have, where, want), fmt.Sprintf("write %s there: sed -i 's/%s/%s/' %s", want, escape(have), want, m.File))...)
		}
	}
	if len(out) > 0 {
		return p.unlessPreview(out)
	}
	if len(p.Config.Version.Mirrors) == 0 {
		return ok("the version has no mirrors")
	}
	return ok("all say the version: " + count(len(p.Config.Version.Mirrors), "mirror"))
}}

// escape protects a version in a sed expression.
func escape(v string) string { return strings.ReplaceAll(v, ".", `\.`) }

var newerCheck = Check{"newer", func(ctx context.Context, p *Project) []Finding {
	tag, v := p.Config.Version.Pattern.Highest(p.Facts.Here)
	if v == nil {
		return nil // the tag check tells of it
	}
	last, _, err := p.Repo.LastTag(ctx, p.Config.Version.Pattern.Glob(), func(t string) bool {
		return t != tag && p.Config.Version.Pattern.Version(t) != nil
	})
	if err != nil {
		return failed(err)
	}
	before := p.Config.Version.Pattern.Version(last)
	if before != nil && !v.GreaterThan(before) {
		return obstacle(fmt.Sprintf("%s is not newer than %s, the release before it", tag, last), fmt.Sprintf("git tag --delete %s && piedmont cut", tag))
	}
	if before == nil {
		return ok(v.String() + " is the first release")
	}
	return ok(fmt.Sprintf("%s is newer than %s", v, before))
}}
