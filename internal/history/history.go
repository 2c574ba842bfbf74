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

	"piedmont/internal/changes"
	"piedmont/internal/config"
	"piedmont/internal/repo"
	"piedmont/internal/version"
)

// History is what happened since the last release.
type History struct {
	Last    string // version of the last release, "" when there is none
	LastTag string
	Commits int
	Changes []changes.Change // newest first
	Rules   changes.Rules
}

// Rules gives the meaning of commits that a description asks for.
func Rules(c config.Cut) changes.Rules {
	r := changes.DefaultRules()
	r.Early = c.Early
	for _, k := range c.Kinds {
		r.Kinds[k.Type] = changes.Kind{Change: k.Change, Heading: k.Heading}
		if !slices.Contains(r.Order, k.Type) {
			r.Order = append(r.Order, k.Type)
		}
	}
	return r
}

// Since reads the commits of HEAD since the last release before it. Tags in
// ignore, such as those on HEAD, do not count; with final, neither do those of
// pre-releases.
func Since(ctx context.Context, r repo.Repo, c *config.Config, ignore []string, final bool) (History, error) {
	h := History{Rules: Rules(c.Cut)}
	pattern := c.Version.Pattern
	accept := func(tag string) bool {
		v := pattern.Version(tag)
		return v != nil && !slices.Contains(ignore, tag) && (!final || v.Prerelease() == "")
	}
	tag, _, err := r.LastTag(ctx, pattern.Glob(), accept)
	if err != nil {
		return h, err
	}
	if v := pattern.Version(tag); v != nil {
		h.Last, h.LastTag = v.String(), tag
	}
	after := ""
	if tag != "" {
		after = "refs/tags/" + tag
	}
	list, err := r.Log(ctx, after, "HEAD")
	if err != nil {
		return h, err
	}
	h.Commits = len(list)
	h.Changes = changes.ReadAll(list)
	return h, nil
}

// Notes tells what a release brings. A section for the version in the changelog,
// where somebody may have written by hand, wins over what the commits say; the
// contributors and the range follow in either case.
func (h History) Notes(c *config.Config, r version.Release, commit time.Time) string {
	n := h.notes(c, r.Version, r.Tag, commit)
	if r.Preview {
		n.To = "HEAD"
	}
	body := n.Body(h.Rules, h.Changes)
	if log, err := Changelog(c); err == nil {
		if section, ok := changes.FindSection(log, r.Version); ok && strings.TrimSpace(section) != "" {
			body = section
		}
	}
	if tail := n.Tail(h.Changes); tail != "" {
		body += "\n" + tail
	}
	return strings.TrimRight(body, "\n") + "\n"
}

// Section is the changelog's section of a version that is about to be released.
func (h History) Section(c *config.Config, v string, day time.Time) string {
	return h.notes(c, v, c.Version.Pattern.Tag(v), day).Section(h.Rules, h.Changes)
}

func (h History) notes(c *config.Config, v, tag string, day time.Time) changes.Notes {
	return changes.Notes{Version: v, Date: day.UTC().Format("2006-01-02"), Last: h.Last, From: h.LastTag, To: tag, Repository: c.Project.Repository}
}

// Changelog reads the changelog; "" when there is none.
func Changelog(c *config.Config) (string, error) {
	data, err := os.ReadFile(filepath.Join(c.Dir, filepath.FromSlash(c.Cut.Changelog)))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(data), err
}
