package outbox

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/alpm"
	"piedmont/internal/linuxpkg/apk"
	"piedmont/internal/linuxpkg/deb"
	"piedmont/internal/linuxpkg/rpm"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// distribution is the step that packs one package.
func (m *maker) distribution(p plan.Package) *engine.Step {
	var needs []string
	for _, e := range p.Entries {
		needs = waitFor(needs, e.Build)
	}
	return &engine.Step{
		ID: "pack " + p.File, Title: "pack " + p.File, Needs: needs,
		Key: func(ctx context.Context, in engine.Inputs) (string, error) {
			about, holds, err := m.resolve(ctx, p, in)
			if err != nil {
				return "", err
			}
			about.Files = nil // they are in what it holds
			key, err := json.Marshal([]any{packVersion, "package/2", m.plan.Effort, p.File, p.Compression, about, p.Entries, holds})
			return string(key), err
		},
		Run: func(ctx context.Context, in engine.Inputs) ([]store.Object, error) {
			about, holds, err := m.resolve(ctx, p, in)
			if err != nil {
				return nil, err
			}
			w, err := m.store.Create(p.File)
			if err != nil {
				return nil, err
			}
			defer w.Abort()
			if err := writePackage(ctx, fileio.Writer(ctx, w), about, p.Compression, archive.Options{Jobs: m.o.Jobs, Effort: m.plan.Effort}); err != nil {
				return nil, err
			}
			o, err := w.Commit(ctx)
			if err != nil {
				return nil, err
			}
			o.Extra, err = json.Marshal(holds)
			return []store.Object{o}, err
		},
	}
}

func writePackage(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string, o archive.Options) error {
	switch p.Format {
	case linuxpkg.Deb:
		return deb.Write(ctx, w, p, compression, o)
	case linuxpkg.RPM:
		return rpm.Write(ctx, w, p, compression, o)
	case linuxpkg.APK:
		return apk.Write(ctx, w, p, o)
	case linuxpkg.Arch:
		return alpm.Write(ctx, w, p, compression, o)
	}
	return fmt.Errorf("there is no writer for packages of the format %q", p.Format)
}

// resolve finds the content of a package's entries, and what it holds.
func (m *maker) resolve(ctx context.Context, p plan.Package, in engine.Inputs) (*linuxpkg.Package, []release.Entry, error) {
	about := p.About
	var holds []release.Entry
	var programs []*exe.Info
	for _, e := range p.Entries {
		files, infos, err := m.placed(ctx, p, e, in)
		if err != nil {
			return nil, nil, err
		}
		for i, f := range files {
			about.Files = append(about.Files, f)
			if infos[i] != nil {
				programs = append(programs, infos[i])
			}
			if f.Dir() && !e.Dir {
				continue
			}
			one := release.Entry{Path: "/" + f.Path, Mode: fmt.Sprintf("%04o", f.Unix()&0o7777), Size: f.Size, SHA256: f.SHA256, Link: f.Link, Owner: f.Owner + ":" + f.Group, Binary: infos[i]}
			if f.Dir() {
				one.Path += "/"
			}
			holds = append(holds, one)
		}
	}
	slices.SortFunc(about.Files, func(a, b linuxpkg.File) int { return cmpText(a.Path, b.Path) })
	for i := 1; i < len(about.Files); i++ {
		if about.Files[i].Path == about.Files[i-1].Path {
			return nil, nil, fmt.Errorf("two files of the package would be /%s", about.Files[i].Path)
		}
	}
	if p.AutoNeeds {
		found, err := linuxpkg.AutoNeeds(p.Format, programs)
		if err != nil {
			return nil, nil, fmt.Errorf("[package.%s] needs \"auto\": %w", p.Table, err)
		}
		about.Needs = append(slices.Clone(about.Needs), found...)
	}
	return &about, holds, nil
}

func cmpText(a, b string) int { return bytes.Compare([]byte(a), []byte(b)) }

// placed turns one planned entry into files.
func (m *maker) placed(ctx context.Context, p plan.Package, e plan.Placed, in engine.Inputs) ([]linuxpkg.File, []*exe.Info, error) {
	f := linuxpkg.File{Path: e.Path, Owner: e.Owner, Group: e.Group, Keep: e.Keep, Kind: e.Kind, Link: e.Link, Mode: e.Mode}
	switch {
	case e.Dir, e.Link != "":
		return []linuxpkg.File{f}, []*exe.Info{nil}, nil
	case e.Tree:
		return m.placedTree(p, e, in)
	case e.Build != "":
		o, ok := find(in[examined(e.Build)], e.Output)
		if !ok {
			return nil, nil, fmt.Errorf("%s did not come out of %q", e.Output, e.Build)
		}
		about, err := madeOf(o)
		if err != nil {
			return nil, nil, err
		}
		one := m.stored(e.Entry, "", "", o, about)
		f.Size, f.SHA256, f.Source = o.Size, o.SHA256, m.content(one)
		return []linuxpkg.File{f}, []*exe.Info{about.Binary}, nil
	case e.From == "":
		content, err := textContent(e)
		if err != nil {
			return nil, nil, err
		}
		sum := sha256.Sum256(content)
		f.Size, f.SHA256 = int64(len(content)), hex.EncodeToString(sum[:])
		f.Open = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content)), nil }
		return []linuxpkg.File{f}, []*exe.Info{nil}, nil
	}
	at := filepath.Join(m.o.Root, filepath.FromSlash(e.From))
	var err error
	if f.SHA256, f.Size, err = m.inputs.File(ctx, at); err != nil {
		return nil, nil, fmt.Errorf("read %s: %w", e.From, err)
	}
	f.Source = m.content(entry{SHA256: f.SHA256, Size: f.Size, Open: fromProject(at, f.SHA256)})
	return []linuxpkg.File{f}, []*exe.Info{nil}, nil
}

func (m *maker) placedTree(p plan.Package, e plan.Placed, in engine.Inputs) ([]linuxpkg.File, []*exe.Info, error) {
	entries, err := m.tree(plan.Archive{Bundle: p.Table}, e.Entry, in[examined(e.Build)])
	if err != nil {
		return nil, nil, err
	}
	var files []linuxpkg.File
	var infos []*exe.Info
	for _, one := range entries {
		mode, err := strconv.ParseUint(one.Mode, 8, 32)
		if err != nil {
			return nil, nil, err
		}
		files = append(files, linuxpkg.File{Path: path.Clean(one.Path), Mode: fs.FileMode(mode), Owner: e.Owner, Group: e.Group, Link: one.Link, Size: one.Size, SHA256: one.SHA256, Source: m.content(one)})
		infos = append(infos, one.Binary)
	}
	return files, infos, nil
}

// textContent is what a planned entry says itself.
func textContent(e plan.Placed) ([]byte, error) {
	if !e.Gzip {
		return []byte(e.Text), nil
	}
	var buf bytes.Buffer
	w, err := gzip.NewWriterLevel(&buf, gzip.BestCompression) // as Debian Policy 12.1 and 12.7 ask
	if err == nil {
		_, err = io.WriteString(w, e.Text)
	}
	if err == nil {
		err = w.Close()
	}
	return buf.Bytes(), err
}
