// Package survey finds out what a plan needs besides the description: which
// version this is, by tags and files, and what happened since the last release.
package survey

import (
	"context"
	"fmt"
	"os"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/semver"
	"piedmont/internal/config"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/project/history"
	"piedmont/internal/project/version"
)

// Take surveys a project whose description was read and whose git was asked.
func Take(ctx context.Context, d *config.Document, facts git.Facts, r git.Repo) (plan.Facts, error) {
	release, err := decide(ctx, d, facts, r)
	if err != nil {
		return plan.Facts{}, err
	}
	since, err := history.Since(ctx, r, d, history.Options{Ignore: facts.Here, Final: !release.Preview &&
		!semver.IsPrerelease(release.Version)})
	if err != nil {
		return plan.Facts{}, err
	}
	return plan.Facts{Release: release, Commit: facts.Commit, Time: facts.Time, Files: os.DirFS(d.Dir),
		Notes: since.Notes(d, release, facts.Time)}, nil
}

// decide finds the version.
func decide(ctx context.Context, d *config.Document, facts git.Facts, r git.Repo) (version.Release, error) {
	keys := version.Of(d)
	h := version.History{Commit: facts.Commit, Here: facts.Here, Dirty: len(facts.Dirty) > 0}
	if p := keys.Place; p != nil {
		var err error
		if h.Declared, err = p.Read(d.Dir); err != nil {
			return version.Release{}, fault.Misuse("version.source "+err.Error(), "")
		}
		if !semver.Valid(h.Declared) {
			return version.Release{}, fault.Misuse(fmt.Sprintf("version.source %s: %q is not a version as "+
				"SemVer 2.0 writes it, such as 1.4.0", p, h.Declared), "")
		}
		h.Source = p.String()
	}
	if _, here := keys.Pattern.Highest(facts.Here); here == nil {
		var err error
		accept := func(tag string) bool { return keys.Pattern.Version(tag) != nil }
		if h.Last, h.Distance, err = r.LastTag(ctx, keys.Pattern.Glob(), accept); err != nil {
			return version.Release{}, err
		}
	}
	release := version.Decide(h, keys.Pattern)
	if !release.Preview {
		return release, nil
	}
	if shallow, err := r.Shallow(ctx); err == nil && shallow {
		release.Why += "; the clone is shallow and may lack tags: git fetch --unshallow --tags"
	}
	return release, nil
}
