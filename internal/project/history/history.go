// Package history joins what git knows and what the description says into what
// happened since the last release: its changes, and the notes that tell of them.
package history

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"piedmont/internal/config"
	"piedmont/internal/project"
	"piedmont/internal/project/changelog"
	"piedmont/internal/project/git"
	"piedmont/internal/project/version"
)

// History is what happened since the last release.
type History struct {
	Last    string // version of the last release, "" when there is none
	LastTag string
	Changes []changelog.Change // newest first
	Rules   changelog.Rules
}

// Options say which tags are releases.
type Options struct {
	Ignore []string // tags that do not count, such as those on HEAD
	Final  bool     // pre-releases do not count either
}

// Since reads the commits of HEAD since the last release before it.
func Since(ctx context.Context, r git.Repo, d *config.Document, o Options) (History, error) {
	h := History{Rules: changelog.Of(d).Rules()}
	pattern := version.Of(d).Pattern
	accept := func(tag string) bool {
		v := pattern.Version(tag)
		return v != nil && !slices.Contains(o.Ignore, tag) && (!o.Final || v.Prerelease() == "")
	}
	// The last release is most often the highest version of all. Its commits are
	// read at once; they show by their parents whether HEAD has that release.
	tags, err := r.Tags(ctx, pattern.Glob())
	if err != nil {
		return h, err
	}
	tag, _ := pattern.Highest(slices.DeleteFunc(tags, func(t string) bool { return !accept(t) }))
	list, err := read(ctx, r, tag)
	if err != nil {
		return h, err
	}
	if tag != "" && !reaches(ctx, r, list, tag) {
		if tag, _, err = r.LastTag(ctx, pattern.Glob(), accept); err != nil {
			return h, err
		}
		if list, err = read(ctx, r, tag); err != nil {
			return h, err
		}
	}
	if v := pattern.Version(tag); v != nil {
		h.Last, h.LastTag = v.String(), tag
	}
	h.Changes = changelog.Settle(list)
	return h, nil
}

// reaches says whether the commits since a tag begin right after it.
func reaches(ctx context.Context, r git.Repo, list []changelog.Change, tag string) bool {
	commit, err := r.CommitOf(ctx, tag)
	if err != nil {
		return false // LastTag tells what is wrong, if anything is
	}
	if len(list) == 0 {
		return true // HEAD is that release
	}
	for _, c := range list {
		if slices.Contains(c.Commit.Parents, commit) {
			return true
		}
	}
	return false
}

// read understands the commits since a tag, "" for all, while git reads on.
func read(ctx context.Context, r git.Repo, tag string) ([]changelog.Change, error) {
	after := ""
	if tag != "" {
		after = "refs/tags/" + tag
	}
	var list []changelog.Change
	err := r.Log(ctx, after, "HEAD", func(c changelog.Commit) { list = append(list, changelog.Read(c)) })
	return list, err
}

// Notes tells what a release brings. A section for the version in the changelog,
// where somebody may have written by hand, wins over what the commits say; the
// contributors and the range follow in either case.
func (h History) Notes(d *config.Document, r version.Release, commit time.Time) string {
	n := h.notes(d, r.Version, r.Tag, commit)
	if r.Preview {
		n.To = "HEAD"
	}
	body := n.Body(h.Rules, h.Changes)
	if log, err := Changelog(d); err == nil {
		if section, ok := changelog.FindSection(log, r.Version); ok && strings.TrimSpace(section) != "" {
			body = section
		}
	}
	if tail := n.Tail(h.Changes); tail != "" {
		body += "\n" + tail
	}
	return strings.TrimRight(body, "\n") + "\n"
}

// Section is the changelog's section of a version that is about to be released.
func (h History) Section(d *config.Document, v string, day time.Time) string {
	return h.notes(d, v, version.Of(d).Pattern.Tag(v), day).Section(h.Rules, h.Changes)
}

func (h History) notes(d *config.Document, v, tag string, day time.Time) changelog.Notes {
	return changelog.Notes{Version: v, Date: day.UTC().Format("2006-01-02"), Last: h.Last, From: h.LastTag,
		To: tag, Repository: project.Of(d).Repository}
}

// Changelog reads the changelog; "" when there is none.
func Changelog(d *config.Document) (string, error) {
	data, err := os.ReadFile(filepath.Join(d.Dir, filepath.FromSlash(changelog.Of(d).Changelog)))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(data), err
}
