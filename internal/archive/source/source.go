// Package source is the table [source]: archives of exactly what git has at the
// commit.
package source

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/zipfile"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/release"
	"piedmont/internal/site"
)

//go:embed keys.md
var docs string

// Kind is that of the files.
const Kind = "source"

// Keys are those of [source].
type Keys struct {
	Formats []string `toml:"formats" default:"[\"tar.gz\"]" choice:"@formats"`
	File    string   `toml:"name" default:"\"{project}-{version}-source\"" fill:"project version tag commit"`
}

// Archive is one source archive.
type Archive struct {
	File   string `json:"file"`
	Format string `json:"format"`
	Folder string `json:"folder"`
}

// Part plans and makes source archives.
type Part struct{ Formats []archive.Format }

// Table describes [source].
func (p Part) Table() config.Table {
	var names []string
	for _, f := range p.Formats {
		names = append(names, f.Name())
	}
	return config.Table{Name: "source", Optional: true, Keys: func() any { return &Keys{} },
		Docs: []string{docs}, Lists: map[string][]string{"formats": names}}
}

// Plan plans an archive for each format.
func (p Part) Plan(c *plan.Context) {
	archives := []*Archive{}
	defer func() { c.Plan.Set("sources", archives) }()
	k := config.One[Keys](c.Doc, "source")
	if k == nil {
		return
	}
	formats := k.Formats
	if len(formats) == 0 {
		formats = []string{"tar.gz"}
	}
	name := c.Fill(k.File, c.Values())
	for _, format := range formats {
		for _, f := range p.Formats {
			if f.Name() != format {
				continue
			}
			a := &Archive{name + "." + format, format, c.Plan.Project.Name + "-" + c.Plan.Version}
			archives = append(archives, a)
			c.Add(&release.Artifact{Name: a.File, Kind: Kind, MediaType: f.MediaType(), Detail: a,
				MadeFrom: "commit " + c.Plan.Commit.ID[:min(8, len(c.Plan.Commit.ID))]})
		}
	}
}

// Steps are those that pack.
func (p Part) Steps(_ context.Context, pl *plan.Plan, env *work.Env) ([]*engine.Step, error) {
	var steps []*engine.Step
	for _, a := range pl.Artifacts {
		detail, ok := a.Detail.(*Archive)
		if !ok {
			continue
		}
		for _, f := range p.Formats {
			if f.Name() == detail.Format {
				steps = append(steps, step(detail, f, pl, env))
			}
		}
	}
	return steps, nil
}

func step(a *Archive, f archive.Format, pl *plan.Plan, env *work.Env) *engine.Step {
	return &engine.Step{ID: work.Packed(a.File), Title: "pack " + a.File,
		Prepare: func(context.Context, engine.Inputs) (engine.Work, error) {
			key, err := json.Marshal([]any{"source", archive.Version, env.Effort, a, pl.Commit})
			return engine.Work{Key: string(key), Run: func(ctx context.Context) ([]store.Object, error) {
				return pack(ctx, a, f, pl.Commit.ID, env)
			}}, err
		}}
}

func pack(ctx context.Context, a *Archive, f archive.Format, commit string, env *work.Env) ([]store.Object, error) {
	files, err := env.Repo.Tree(ctx, commit)
	if err != nil {
		return nil, fmt.Errorf("list the files of the commit: %w", err)
	}
	blobs := env.Repo.Blobs(ctx)
	defer blobs.Close()
	var list []release.Entry
	for _, file := range files {
		var e release.Entry
		e.Path, e.Mode, e.Size = a.Folder+"/"+file.Path, 0o644, file.Size
		if file.Executable() {
			e.Mode = 0o755
		}
		if file.Link() {
			e.Mode, e.Size = fs.ModeSymlink|0o777, 0
			if e.Link, err = target(blobs, file); err != nil {
				return nil, err
			}
		}
		e.Open = func() (io.ReadCloser, error) {
			r, err := blobs.Open(file)
			return io.NopCloser(r), err
		}
		list = append(list, e)
	}
	out, err := env.Archive(a.File, f, list)(ctx)
	var outside *zipfile.OutsideError
	if errors.As(err, &outside) {
		return nil, fmt.Errorf("%w: mark it export-ignore in .gitattributes, or leave %s out of [source] "+
			"formats", err, f.Name())
	}
	for i := range out {
		out[i].Extra = nil // what it holds is in git
	}
	return out, err
}

func target(blobs *git.Blobs, f git.TreeFile) (string, error) {
	r, err := blobs.Open(f)
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(r)
	return string(text), err
}

// Present says what kind of archive a file is, and where it stands.
func (p Part) Present(f release.Artifact, at site.Placement) site.Placement {
	if f.Kind != Kind {
		return at
	}
	for _, x := range p.Formats {
		if strings.HasSuffix(f.Name, "."+x.Name()) {
			at.Ending = x.Name()
		}
	}
	at.Group, at.Title, at.Rank, at.Part = "source", "Source code", site.RankSource, ""
	return at
}
