package work

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/release"
)

// Waits are the steps that planned entries wait for.
func Waits(entries []release.Entry) []string {
	var out []string
	for _, e := range entries {
		if id := Examined(e.From.Build); e.From.Build != "" && !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	return out
}

// Entries finds the content of planned entries. A tree becomes what the build
// left below it. table names whose entries they are, for errors.
func (e *Env) Entries(ctx context.Context, in engine.Inputs, planned []release.Entry,
	table string) ([]release.Entry, error) {
	var out []release.Entry
	for _, p := range planned {
		switch {
		case p.From.Tree:
			below, err := e.tree(p, in[Examined(p.From.Build)], table)
			if err != nil {
				return nil, err
			}
			out = append(out, below...)
			continue
		case !p.Planned():
		case p.From.Build != "":
			o, ok := Find(in[Examined(p.From.Build)], p.From.Path)
			if !ok {
				return nil, fmt.Errorf("%s did not come out of %q", p.From.Path, p.From.Build)
			}
			made, err := MadeOf(o)
			if err != nil {
				return nil, err
			}
			p.Binary, p.Content = made.Binary, e.Stored(o)
		case p.From.Path != "":
			var err error
			if p.Content, err = e.File(ctx, p.From.Path); err != nil {
				return nil, err
			}
		default:
			text, err := written(p.From)
			if err != nil {
				return nil, err
			}
			p.Content = Text(text)
		}
		out = append(out, p)
	}
	return out, nil
}

// written is the content of a text that the plan says.
func written(from release.Origin) ([]byte, error) {
	if !from.Gzip {
		return []byte(from.Text), nil
	}
	var buf bytes.Buffer
	w, err := gzip.NewWriterLevel(&buf, gzip.BestCompression) // as Debian Policy 12.1 and 12.7 ask
	if err == nil {
		_, err = io.WriteString(w, from.Text)
	}
	if err == nil {
		err = w.Close()
	}
	return buf.Bytes(), err
}

// tree takes what a build left below a folder of its stage.
func (e *Env) tree(p release.Entry, objects []store.Object, table string) ([]release.Entry, error) {
	var out []release.Entry
	for _, o := range objects {
		to, ok := below(p.From.Path, o.Name)
		if !ok {
			continue
		}
		made, err := MadeOf(o)
		if err != nil {
			return nil, err
		}
		one := p
		one.From.Tree = false
		one.Path, one.Mode, one.Link, one.Binary = path.Join(p.Path, to), made.Mode(), made.Link, made.Binary
		if made.Link == "" {
			one.Content = e.Stored(o)
		}
		out = append(out, one)
	}
	if len(out) > 0 {
		return out, nil
	}
	var names []string
	for _, o := range objects {
		names = append(names, o.Name)
	}
	slices.Sort(names)
	return nil, fmt.Errorf("the stage has nothing below %q: it holds %s; change \"from\" in [%s] trees",
		p.From.Path, strings.Join(names[:min(len(names), 6)], ", "), table)
}

// below gives the path of a file relative to a folder of the stage, or, where
// from is a pattern, to the part before it; false when it is not taken.
func below(from, name string) (string, bool) {
	if from == "." {
		return name, true
	}
	if rest, ok := strings.CutPrefix(name, from+"/"); ok {
		return rest, true
	}
	if name == from {
		return path.Base(name), true
	}
	if ok, _ := doublestar.Match(from, name); !ok {
		return "", false
	}
	base, _ := doublestar.SplitPattern(from)
	if base == "." {
		return name, true
	}
	return strings.TrimPrefix(name, base+"/"), true
}
