// Package cut prepares a release from the commits: it decides the version,
// writes the changelog, moves the version in every file that carries it,
// commits and tags. Prepare changes nothing; what Apply begins and cannot end,
// it takes back.
package cut

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
	"piedmont/internal/base/fileio"
	"piedmont/internal/base/semver"
	"piedmont/internal/config"
	"piedmont/internal/project"
	"piedmont/internal/project/changelog"
	"piedmont/internal/project/git"
	"piedmont/internal/project/history"
	"piedmont/internal/project/version"
)

// Edit is a change of one file.
type Edit struct {
	File   string // relative to the project's root
	Before []byte // nil when the file is new
	After  []byte
}

// Diff writes the edit as a unified diff.
func (e Edit) Diff() string {
	from := "a/" + e.File
	if e.Before == nil {
		from = os.DevNull
	}
	return udiff.Unified(from, "b/"+e.File, string(e.Before), string(e.After))
}

// Proposal is a release that could be cut.
type Proposal struct {
	Last     string // the version before, "" for the first
	Version  string // "" when nothing asks for a release
	Tag      string
	Reviewed bool // all edits are in HEAD already: only the tag is missing
	Decision changelog.Decision
	Asked    bool // a person asked for this version
	Changes  []changelog.Change
	Section  string
	Edits    []Edit
	head     string
	repo     git.Repo
}

// Options say what is asked for.
type Options struct {
	As  string // a version, or major, minor, patch or rc; "" lets the commits decide
	Now time.Time
	Env environ.Env // that git sees
}

// Prepare decides what to do.
func Prepare(ctx context.Context, d *config.Document, o Options) (*Proposal, error) {
	r := git.Repo{Dir: d.Dir, Env: o.Env}
	facts, err := r.Facts(ctx)
	if err != nil {
		return nil, err
	}
	if len(facts.Dirty) > 0 {
		return nil, fault.Misuse("the tree has changes that are not committed: "+strings.Join(facts.Dirty,
			", "), "Commit them, or put them aside with: git stash --include-untracked")
	}
	if tag, v := version.Of(d).Pattern.Highest(facts.Here); v != nil && o.As == "" {
		return nil, fault.Misuse(fmt.Sprintf("HEAD is tagged %s: there is nothing to cut", tag),
			"Ship it with: piedmont ship")
	}
	h, err := history.Since(ctx, r, d, history.Options{})
	if err != nil {
		return nil, err
	}
	p := &Proposal{Last: h.Last, Changes: h.Changes, head: facts.Commit, repo: r}
	if p.Decision, err = h.Rules.Decide(h.Last, h.Changes); err != nil {
		return nil, err
	}
	if p.Version, err = reviewed(d, h.Last); err != nil {
		return nil, err
	}
	p.Reviewed = p.Version != "" && o.As == ""
	if !p.Reviewed {
		p.Version = p.Decision.Version
	}
	if o.As != "" {
		p.Asked = true
		if p.Version, err = changelog.As(o.As, h.Last, p.Decision); err != nil {
			return nil, fault.Misuse(err.Error(), "The last release is "+orNone(h.Last))
		}
	}
	if p.Version == "" {
		return p, nil
	}
	p.Tag = version.Of(d).Pattern.Tag(p.Version)
	if has, err := r.HasRef(ctx, "refs/tags/"+p.Tag); err != nil {
		return nil, err
	} else if has {
		return nil, fault.Misuse(fmt.Sprintf("there is a tag %s already, on another commit", p.Tag),
			"Fetch what is missing here, or ask for another version with --as")
	}
	if p.Reviewed {
		return p, nil
	}
	p.Section = h.Section(d, p.Version, o.Now)
	p.Edits, err = edits(d, h.Last, p)
	return p, err
}

func orNone(v string) string {
	if v == "" {
		return "none"
	}
	return v
}

// reviewed finds a version that a merged branch has prepared: newer than the
// last release, with a section in the changelog, and carried by the source and
// all mirrors. It is "" when there is none.
func reviewed(d *config.Document, last string) (string, error) {
	log, err := history.Changelog(d)
	if err != nil {
		return "", err
	}
	v := ""
	for _, line := range strings.Split(log, "\n") {
		if !strings.HasPrefix(line, "## ") {
			continue
		}
		for _, word := range strings.FieldsFunc(line,
			func(r rune) bool { return strings.ContainsRune(" []()\t\r", r) }) {
			if word = strings.TrimPrefix(word, "v"); semver.Valid(word) {
				v = word
				break
			}
		}
		break // only the newest section counts
	}
	if v == "" || (last != "" && semver.Compare(v, last) <= 0) {
		return "", nil
	}
	for _, pl := range version.Of(d).Places() {
		if have, err := pl.Read(d.Dir); err != nil || have != v {
			return "", nil
		}
	}
	return v, nil
}

// edits computes every file that changes; several places may be in one.
func edits(d *config.Document, last string, p *Proposal) ([]Edit, error) {
	var out []Edit
	edit := func(name string) (*Edit, error) {
		name = filepath.ToSlash(filepath.Clean(name))
		if i := slices.IndexFunc(out, func(e Edit) bool { return e.File == name }); i >= 0 {
			return &out[i], nil
		}
		data, err := os.ReadFile(filepath.Join(d.Dir, filepath.FromSlash(name)))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if err == nil && data == nil {
			data = []byte{}
		}
		out = append(out, Edit{name, data, data})
		return &out[len(out)-1], nil
	}
	log, err := edit(changelog.Of(d).Changelog)
	if err != nil {
		return nil, err
	}
	if _, written := changelog.FindSection(string(log.Before), p.Version); !written {
		log.After = []byte(changelog.AddSection(string(log.Before), p.Section))
	}
	var stale []string
	for _, pl := range version.Of(d).Places() {
		e, err := edit(pl.File)
		if err != nil {
			return nil, err
		}
		if e.Before == nil {
			return nil, fault.Misuse(fmt.Sprintf("%s: there is no such file", pl),
				"Correct version.source or version.mirror in "+config.FileName)
		}
		have, _, _, err := pl.Find(e.After)
		if err != nil {
			return nil, fault.Misuse(err.Error(), "Correct version.source or version.mirror in "+config.FileName)
		}
		if last != "" && have != last && have != p.Version {
			stale = append(stale, fmt.Sprintf("%s says %s", pl, have))
		}
		if e.After, err = pl.Replace(e.After, p.Version); err != nil {
			return nil, fault.Misuse(err.Error(), "Widen the pattern so that it takes any version")
		}
	}
	if len(stale) > 0 {
		return nil, fault.Misuse(fmt.Sprintf("the last release is %s, but %s", last, strings.Join(stale, ", ")),
			"Bring the places to one version and commit that first")
	}
	return slices.DeleteFunc(out, func(e Edit) bool { return string(e.Before) == string(e.After) }), nil
}

// Message is the commit's. Its type says that it brings nothing by itself.
func (p *Proposal) Message(project string) string {
	return "chore: release " + project + " " + p.Version + "\n"
}

// Apply writes the edits, commits exactly them, and tags. When a step fails,
// files, index, branch and tags are as before.
func (p *Proposal) Apply(ctx context.Context, d *config.Document) (err error) {
	r := p.repo
	var files []string
	defer func() {
		if err != nil {
			// The caller's context may be the reason; taking back must still work.
			if undo := p.takeBack(context.WithoutCancel(ctx), d, files); undo != nil {
				err = fmt.Errorf("%w\nTaking it back failed too: %v", err, undo)
			}
		}
	}()
	for _, e := range p.Edits {
		path := filepath.Join(d.Dir, filepath.FromSlash(e.File))
		mode := fs.FileMode(0o644)
		if info, err := os.Stat(path); err == nil {
			mode = info.Mode().Perm()
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		files = append(files, e.File)
		if err := fileio.Write(path, e.After, mode); err != nil {
			return err
		}
	}
	if len(files) > 0 {
		if err := r.CommitFiles(ctx, p.Message(project.Of(d).Name), files); err != nil {
			return fmt.Errorf("commit the release: %w", err)
		}
	}
	if err := r.Tag(ctx, p.Tag, project.Of(d).Name+" "+p.Version+"\n", version.Of(d).Tags == "signed"); err != nil {
		return fmt.Errorf("tag the release: %w", err)
	}
	return nil
}

// OnBranch puts the edits into a commit on a new branch, for review.
func (p *Proposal) OnBranch(ctx context.Context, d *config.Document, branch string) error {
	files := map[string][]byte{}
	for _, e := range p.Edits {
		files[e.File] = e.After
	}
	return p.repo.CommitOnBranch(ctx, branch, p.Message(project.Of(d).Name), files)
}

// takeBack restores branch, index, tags and files.
func (p *Proposal) takeBack(ctx context.Context, d *config.Document, files []string) error {
	var errs []error
	if len(files) > 0 {
		errs = append(errs, p.repo.Undo(ctx, p.head, p.Tag, files))
	}
	for _, e := range p.Edits {
		if !slices.Contains(files, e.File) {
			continue
		}
		path := filepath.Join(d.Dir, filepath.FromSlash(e.File))
		if e.Before == nil {
			if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				errs = append(errs, err)
			}
			continue
		}
		mode := fs.FileMode(0o644)
		if info, err := os.Stat(path); err == nil {
			mode = info.Mode().Perm()
		}
		errs = append(errs, fileio.Write(path, e.Before, mode))
	}
	return errors.Join(errs...)
}
