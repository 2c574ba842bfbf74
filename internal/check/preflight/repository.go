package preflight

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/check"
	"piedmont/internal/config"
	"piedmont/internal/project"
	"piedmont/internal/project/version"
)

// Clean is the check clean.
var Clean = check.Check{Name: "clean", Run: func(_ context.Context, p *check.Project) []check.Finding {
	if len(p.Facts.Dirty) == 0 {
		return check.Fine("everything is committed")
	}
	return p.UnlessPreview(check.Stops("not committed: "+check.Some(p.Facts.Dirty, 6),
		"git add --all && git commit, or put it aside: git stash --include-untracked"))
}}

// Committed is the check description.
var Committed = check.Check{Name: "description", Run: func(ctx context.Context, p *check.Project) []check.Finding {
	name := filepath.Base(p.Doc.File)
	tracked, err := p.Repo.Tracked(ctx, []string{name})
	if err != nil {
		return check.Failed(err)
	}
	if tracked[name] {
		return check.Fine(name + " is tracked by git")
	}
	return p.UnlessPreview(check.Stops(name+" is not tracked by git",
		"git add "+name+" && git commit -m \"build: describe the release\""))
}}

// History is the check history.
var History = check.Check{Name: "history", Run: func(ctx context.Context, p *check.Project) []check.Finding {
	shallow, err := p.Repo.Shallow(ctx)
	if err != nil {
		return check.Failed(err)
	}
	if shallow {
		return check.Stops("the clone is shallow: older commits and tags are missing, and the notes would "+
			"lack them", "git fetch --unshallow --tags")
	}
	return check.Fine("the whole history is here")
}}

// Tag is the check tag.
var Tag = check.Check{Name: "tag", Run: func(ctx context.Context, p *check.Project) []check.Finding {
	pattern := version.Of(p.Doc).Pattern
	tag, v := pattern.Highest(p.Facts.Here)
	if v == nil {
		want := ""
		if pl := version.Of(p.Doc).Place; pl != nil {
			if declared, err := pl.Read(p.Doc.Dir); err == nil {
				want = pattern.Tag(declared)
				if commit, err := p.Repo.CommitOf(ctx, want); err == nil {
					return p.UnlessPreview(check.Stops(fmt.Sprintf("%s carries the version of %s, which is "+
						"on the commit %s, not on HEAD", pl, want, commit[:8]), "piedmont cut"))
				}
			}
		}
		return p.UnlessPreview(check.Stops("HEAD carries no version tag", "piedmont cut"))
	}
	kind, err := p.Repo.TagKind(ctx, tag)
	if err != nil {
		return check.Failed(err)
	}
	allowed := map[string][]string{"any": {"plain", "annotated", "signed"},
		"annotated": {"annotated", "signed"}, "signed": {"signed"}}[version.Of(p.Doc).Tags]
	if !slices.Contains(allowed, kind) {
		flag := map[string]string{"annotated": "--annotate", "signed": "--sign"}[version.Of(p.Doc).Tags]
		return check.Stops(fmt.Sprintf("the tag %s is %s, and %s ones are asked for", tag, kind,
			version.Of(p.Doc).Tags), fmt.Sprintf("git tag --force %s --message \"%s %s\" %s", flag,
			project.Of(p.Doc).Name, v, tag))
	}
	return check.Fine(fmt.Sprintf("HEAD is tagged %s (%s)", tag, kind))
}}

// Pushed is the check pushed.
var Pushed = check.Check{Name: "pushed", Run: func(ctx context.Context, p *check.Project) []check.Finding {
	_, branch, err := p.Repo.Head(ctx)
	if err != nil {
		return check.Failed(err)
	}
	if branch == "" {
		return check.Fine("HEAD is on no branch")
	}
	upstream, err := p.Repo.Upstream(ctx)
	if err != nil {
		return check.Failed(err)
	}
	if upstream == "" {
		remote, err := p.Repo.Remote(ctx)
		if err != nil {
			return check.Failed(err)
		}
		if remote == "" {
			return check.Advises("the repository has no remote: nobody else has this commit",
				"git remote add origin ADDRESS && git push --set-upstream origin "+branch)
		}
		return check.Advises("the branch "+branch+" has no upstream: nobody else has this commit",
			"git push --set-upstream origin "+branch)
	}
	if has, err := p.Repo.Contains(ctx, upstream, "HEAD"); err != nil {
		return check.Failed(err)
	} else if has {
		return check.Fine("HEAD is in " + upstream)
	}
	return p.UnlessPreview(check.Stops("HEAD is not in "+upstream+", as far as this clone knows",
		"git push --follow-tags"))
}}

// Tracked is the check files.
var Tracked = check.Check{Name: "files", Run: func(ctx context.Context, p *check.Project) []check.Finding {
	if p.Plan == nil {
		return nil // the names check tells why
	}
	files := p.Plan.ProjectFiles()
	tracked, err := p.Repo.Tracked(ctx, files)
	if err != nil {
		return check.Failed(err)
	}
	var missing []string
	for _, f := range files {
		if !tracked[f] {
			missing = append(missing, f)
		}
	}
	if len(missing) > 0 {
		return p.UnlessPreview(check.Stops("what is packed is not all tracked by git: "+check.Some(missing, 6),
			"git add --force -- "+strings.Join(missing[:min(6, len(missing))],
				" ")+" && git commit, or take it out of "+config.FileName))
	}
	return check.Fine("what is packed is tracked: " + check.Count(len(files), "file"))
}}
