package preflight

import (
	"context"
	"fmt"
	"strings"

	"piedmont/internal/base/semver"
	"piedmont/internal/check"
	"piedmont/internal/config"
	"piedmont/internal/project/version"
)

// Mirrors is the check mirrors.
var Mirrors = check.Check{Name: "mirrors", Run: func(_ context.Context, p *check.Project) []check.Finding {
	want, where := "", ""
	if pl := version.Of(p.Doc).Place; pl != nil {
		v, err := pl.Read(p.Doc.Dir)
		if err != nil {
			return check.Stops("the version's source: "+err.Error(),
				"correct it, or version.source in "+config.FileName)
		}
		if !semver.Valid(v) {
			return check.Stops(fmt.Sprintf("%s says %q, which is not a version as SemVer 2.0 writes it", pl, v),
				fmt.Sprintf("write a version such as 1.4.0 into %s", pl.File))
		}
		want, where = v, pl.String()
	}
	if tag, v := version.Of(p.Doc).Pattern.Highest(p.Facts.Here); v != nil {
		if want != "" && want != v.String() {
			return check.Stops(fmt.Sprintf("HEAD is tagged %s, but %s says %s", tag, where, want),
				fmt.Sprintf("git tag --delete %s && piedmont cut", tag))
		}
		want, where = v.String(), "the tag "+tag
	}
	var out []check.Finding
	for _, m := range version.Of(p.Doc).Mirrors {
		have, err := m.Read(p.Doc.Dir)
		switch {
		case err != nil:
			out = append(out, check.Stops("a mirror of the version: "+err.Error(),
				"correct it, or version.mirror in "+config.FileName)...)
		case want != "" && have != want:
			out = append(out, check.Stops(fmt.Sprintf("%s says %s, but %s says %s", m, have, where, want),
				fmt.Sprintf("write %s there: sed -i 's/%s/%s/' %s", want, escape(have), want, m.File))...)
		}
	}
	if len(out) > 0 {
		return p.UnlessPreview(out)
	}
	if len(version.Of(p.Doc).Mirrors) == 0 {
		return check.Fine("the version has no mirrors")
	}
	return check.Fine("all say the version: " + check.Count(len(version.Of(p.Doc).Mirrors), "mirror"))
}}

// escape protects a version in a sed expression.
func escape(v string) string { return strings.ReplaceAll(v, ".", `\.`) }

// Newer is the check newer.
var Newer = check.Check{Name: "newer", Run: func(ctx context.Context, p *check.Project) []check.Finding {
	tag, v := version.Of(p.Doc).Pattern.Highest(p.Facts.Here)
	if v == nil {
		return nil // the tag check tells of it
	}
	last, _, err := p.Repo.LastTag(ctx, version.Of(p.Doc).Pattern.Glob(), func(t string) bool {
		return t != tag && version.Of(p.Doc).Pattern.Version(t) != nil
	})
	if err != nil {
		return check.Failed(err)
	}
	before := version.Of(p.Doc).Pattern.Version(last)
	if before != nil && !v.GreaterThan(before) {
		return check.Stops(fmt.Sprintf("%s is not newer than %s, the release before it", tag, last),
			fmt.Sprintf("git tag --delete %s && piedmont cut", tag))
	}
	if before == nil {
		return check.Fine(v.String() + " is the first release")
	}
	return check.Fine(fmt.Sprintf("%s is newer than %s", v, before))
}}
