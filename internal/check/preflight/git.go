package preflight

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/config"
)

var cleanCheck = Check{"clean", func(_ context.Context, p *Project) []Finding {
	if len(p.Facts.Dirty) == 0 {
		return ok("everything is committed")
	}
	return p.unlessPreview(obstacle("not committed: "+some(p.Facts.Dirty, 6), "git add --all && git commit, or put it aside: git stash --include-untracked"))
}}

func count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// some names a few of a list.
func some(list []string, most int) string {
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return strings.Join(list[:most], ", ") + fmt.Sprintf(" and %d more", len(list)-most)
}

var committedCheck = Check{"description", func(ctx context.Context, p *Project) []Finding {
	name := filepath.Base(p.Config.File)
	tracked, err := p.Repo.Tracked(ctx, []string{name})
	if err != nil {
		return failed(err)
	}
	if tracked[name] {
		return ok(name + " is tracked by git")
	}
	return p.unlessPreview(obstacle(name+" is not tracked by git", "git add "+name+" && git commit -m \"build: describe the release\""))
}}

var historyCheck = Check{"history", func(ctx context.Context, p *Project) []Finding {
	shallow, err := p.Repo.Shallow(ctx)
	if err != nil {
		return failed(err)
	}
	if shallow {
		return obstacle("the clone is shallow: older commits and tags are missing, and the notes would lack them", "git fetch --unshallow --tags")
	}
	return ok("the whole history is here")
}}

var tagCheck = Check{"tag", func(ctx context.Context, p *Project) []Finding {
	pattern := p.Config.Version.Pattern
	tag, v := pattern.Highest(p.Facts.Here)
	if v == nil {
		want := ""
		if pl := p.Config.Version.Place; pl != nil {
			if declared, err := pl.Read(p.Config.Dir); err == nil {
				want = pattern.Tag(declared)
				if commit, err := p.Repo.CommitOf(ctx, want); err == nil {
					return p.unlessPreview(obstacle(fmt.Sprintf("%s carries the version of %s, which is on the commit %s, not on HEAD", pl, want, commit[:8]), "piedmont cut"))
				}
			}
		}
		return p.unlessPreview(obstacle("HEAD carries no version tag", "piedmont cut"))
	}
	kind, err := p.Repo.TagKind(ctx, tag)
	if err != nil {
		return failed(err)
	}
	allowed := map[string][]string{"any": {"plain", "annotated", "signed"}, "annotated": {"annotated", "signed"}, "signed": {"signed"}}[p.Config.Version.Tags]
	if !slices.Contains(allowed, kind) {
		flag := map[string]string{"annotated": "--annotate", "signed": "--sign"}[p.Config.Version.Tags]
		return obstacle(fmt.Sprintf("the tag %s is %s, and %s ones are asked for", tag, kind, p.Config.Version.Tags), fmt.Sprintf("git tag --force %s --message \"%s %s\" %s", flag, p.Config.Project.Name, v, tag))
	}
	return ok(fmt.Sprintf("HEAD is tagged %s (%s)", tag, kind))
}}

var pushedCheck = Check{"pushed", func(ctx context.Context, p *Project) []Finding {
	_, branch, err := p.Repo.Head(ctx)
	if err != nil {
		return failed(err)
	}
	if branch == "" {
		return ok("HEAD is on no branch")
	}
	upstream := p.Repo.Upstream(ctx)
	if upstream == "" {
		if p.Repo.Remote(ctx) == "" {
			return advice("the repository has no remote: nobody else has this commit", "git remote add origin ADDRESS && git push --set-upstream origin "+branch)
		}
		return advice("the branch "+branch+" has no upstream: nobody else has this commit", "git push --set-upstream origin "+branch)
	}
	if p.Repo.Contains(ctx, upstream, "HEAD") {
		return ok("HEAD is in " + upstream)
	}
	return p.unlessPreview(obstacle("HEAD is not in "+upstream+", as far as this clone knows", "git push --follow-tags"))
}}

var trackedCheck = Check{"files", func(ctx context.Context, p *Project) []Finding {
	if p.Plan == nil {
		return nil // the names check tells why
	}
	files := p.Plan.ProjectFiles()
	tracked, err := p.Repo.Tracked(ctx, files)
	if err != nil {
		return failed(err)
	}
	var missing []string
	for _, f := range files {
		if !tracked[f] {
			missing = append(missing, f)
		}
	}
	if len(missing) > 0 {
		return p.unlessPreview(obstacle("what is packed is not all tracked by git: "+some(missing, 6), "git add --force -- "+strings.Join(missing[:min(6, len(missing))], " ")+" && git commit, or take it out of "+config.FileName))
	}
	return ok("what is packed is tracked: " + count(len(files), "file"))
}}
