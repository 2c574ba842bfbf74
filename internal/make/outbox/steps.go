package outbox

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
	"piedmont/internal/project/git"
	"piedmont/internal/release"
)

// recordStep writes the manifest and the checksums, when all else is there.
const recordStep = "record"

// packVersion goes into every key of a packing step. It changes whenever the
// same entries would give other bytes, such as after an update of a compressor.
const packVersion = "pack/3"

type maker struct {
	plan      *plan.Plan
	o         Options
	store     *store.Store
	inputs    *lang.Inputs
	finder    *toolchain.Finder
	golang    *lang.Go
	c         *lang.C
	run       *lang.Command
	taken     *lang.Prebuilt
	stages    *stages
	squeezing keyed
	finals    []string // steps whose outputs go into the outbox
}

// steps turns the plan into a graph: build → examine → pack → record. A new kind of
// file is one more line here.
func (m *maker) steps() []*engine.Step {
	var steps []*engine.Step
	for _, b := range m.plan.Builds {
		steps = append(steps, m.build(b), m.examine(b))
	}
	for _, s := range m.plan.Sources {
		steps = append(steps, m.sourceArchive(s))
		m.finals = append(m.finals, "pack "+s.File)
	}
	for _, a := range m.plan.Archives {
		steps = append(steps, m.archive(a))
		m.finals = append(m.finals, "pack "+a.File)
	}
	for _, p := range m.plan.Packages {
		steps = append(steps, m.distribution(p))
		m.finals = append(m.finals, "pack "+p.File)
	}
	steps = append(steps, m.notes())
	m.finals = append(m.finals, "pack "+plan.NotesName)
	record := m.record(append([]string(nil), m.finals...))
	m.finals = append(m.finals, recordStep)
	return append(steps, record)
}

func (m *maker) archive(a plan.Archive) *engine.Step {
	var needs []string
	for _, e := range a.Entries {
		needs = waitFor(needs, e.Build)
	}
	return &engine.Step{
		ID: "pack " + a.File, Title: "pack " + a.File, Needs: needs,
		Key: func(ctx context.Context, in engine.Inputs) (string, error) {
			entries, err := m.entries(ctx, a, in)
			if err != nil {
				return "", err
			}
			key, err := json.Marshal([]any{packVersion, m.plan.Effort, a.File, a.Format, m.plan.Commit.Time, entries})
			return string(key), err
		},
		Run: func(ctx context.Context, in engine.Inputs) ([]store.Object, error) {
			entries, err := m.entries(ctx, a, in)
			if err != nil {
				return nil, err
			}
			return m.pack(ctx, a.File, a.Format, entries)
		},
	}
}

// opener makes archive.Entry's Open and keeps it out of keys.
type opener func() (io.ReadCloser, error)

// MarshalJSON leaves the function out: an entry's digest stands for its content.
func (opener) MarshalJSON() ([]byte, error) { return []byte("null"), nil }

type entry struct {
	Path, Mode, Link, SHA256 string
	Size                     int64
	Open                     opener
	Binary                   *exe.Info
}

// entries resolves the planned entries into files on the disk with their digests.
func (m *maker) entries(ctx context.Context, a plan.Archive, in engine.Inputs) ([]entry, error) {
	var out []entry
	for _, e := range a.Entries {
		switch {
		case e.Tree:
			below, err := m.tree(a, e, in[examined(e.Build)])
			if err != nil {
				return nil, err
			}
			out = append(out, below...)
		case e.Link != "":
			out = append(out, entry{Path: e.Path, Mode: e.Octal, Link: e.Link})
		case e.Build != "":
			o, ok := find(in[examined(e.Build)], e.Output)
			if !ok {
				return nil, fmt.Errorf("%s did not come out of %q", e.Output, e.Build)
			}
			made, err := madeOf(o)
			if err != nil {
				return nil, err
			}
			out = append(out, m.stored(e, e.Path, e.Octal, o, made))
		default:
			path := filepath.Join(m.o.Root, filepath.FromSlash(e.From))
			one := entry{Path: e.Path, Mode: e.Octal}
			var err error
			if one.SHA256, one.Size, err = m.inputs.File(ctx, path); err != nil {
				return nil, fmt.Errorf("read %s: %w", e.From, err)
			}
			one.Open = fromProject(path, one.SHA256)
			out = append(out, one)
		}
	}
	return out, nil
}

// stored is an entry whose bytes are in the store.
func (m *maker) stored(e plan.Entry, path, mode string, o store.Object, made made) entry {
	return entry{Path: path, Mode: mode, SHA256: o.SHA256, Size: o.Size, Binary: made.Binary,
		Open: func() (io.ReadCloser, error) { return os.Open(m.store.Path(o)) }}
}

func find(objects []store.Object, name string) (store.Object, bool) {
	for _, o := range objects {
		if o.Name == name {
			return o, true
		}
	}
	return store.Object{}, false
}

func (m *maker) pack(ctx context.Context, file, format string, entries []entry) ([]store.Object, error) {
	list := make([]archive.Entry, len(entries))
	for i, e := range entries {
		mode, err := strconv.ParseUint(e.Mode, 8, 32)
		if err != nil {
			return nil, fmt.Errorf("the mode of %s: %w", e.Path, err)
		}
		list[i] = archive.Entry{Path: e.Path, Mode: fs.FileMode(mode), Size: e.Size, Link: e.Link, SHA256: e.SHA256, Binary: e.Binary, Source: m.content(e)}
	}
	return m.write(ctx, file, format, list)
}

// write packs into the store; what the archive holds is kept with the object.
func (m *maker) write(ctx context.Context, file, format string, list []archive.Entry) ([]store.Object, error) {
	w, err := m.store.Create(file)
	if err != nil {
		return nil, err
	}
	defer w.Abort()
	holds, err := archive.Write(ctx, fileio.Writer(ctx, w), format, list, archive.Options{Time: m.plan.Commit.Time, Jobs: m.o.Jobs, Effort: m.plan.Effort})
	if err != nil {
		return nil, err
	}
	o, err := w.Commit(ctx)
	if err != nil {
		return nil, err
	}
	o.Extra, err = json.Marshal(holds)
	return []store.Object{o}, err
}

func (m *maker) sourceArchive(s plan.Source) *engine.Step {
	return &engine.Step{
		ID: "pack " + s.File, Title: "pack " + s.File,
		Key: func(context.Context, engine.Inputs) (string, error) {
			key, err := json.Marshal([]any{"source", packVersion, m.plan.Effort, s, m.plan.Commit})
			return string(key), err
		},
		Run: func(ctx context.Context, _ engine.Inputs) ([]store.Object, error) {
			r := git.Repo{Dir: m.o.Root}
			files, err := r.Tree(ctx, m.plan.Commit.ID)
			if err != nil {
				return nil, fmt.Errorf("list the files of the commit: %w", err)
			}
			blobs := r.Blobs(ctx)
			defer blobs.Close()
			var list []archive.Entry
			for _, f := range files {
				e := archive.Entry{Path: s.Folder + "/" + f.Path, Mode: 0o644, Size: f.Size}
				if f.Executable() {
					e.Mode = 0o755
				}
				if f.Link() {
					if e.Link, e.Size, err = readLink(blobs, f); err != nil {
						return nil, err
					}
					if s.Format == "zip" && plan.Leaves(e.Path, e.Link) {
						return nil, fmt.Errorf("the symbolic link %s leads to %s, outside of the archive, which zip cannot hold: mark it export-ignore in .gitattributes, or leave zip out of [source] formats", f.Path, e.Link)
					}
				}
				e.Open = func() (io.ReadCloser, error) {
					r, err := blobs.Open(f)
					return io.NopCloser(r), err
				}
				list = append(list, e)
			}
			return m.write(ctx, s.File, s.Format, list)
		},
	}
}

func readLink(blobs *git.Blobs, f git.TreeFile) (string, int64, error) {
	r, err := blobs.Open(f)
	if err != nil {
		return "", 0, err
	}
	target, err := io.ReadAll(r)
	return string(target), 0, err
}

// notes writes what the plan says of the release.
func (m *maker) notes() *engine.Step {
	return &engine.Step{
		ID: "pack " + plan.NotesName, Title: "write " + plan.NotesName,
		Key: func(context.Context, engine.Inputs) (string, error) { return "notes/1 " + m.plan.Notes, nil },
		Run: func(ctx context.Context, _ engine.Inputs) ([]store.Object, error) {
			o, err := m.put(ctx, plan.NotesName, []byte(m.plan.Notes))
			return []store.Object{o}, err
		},
	}
}

// put keeps a small file.
func (m *maker) put(ctx context.Context, name string, content []byte) (store.Object, error) {
	w, err := m.store.Create(name)
	if err != nil {
		return store.Object{}, err
	}
	defer w.Abort()
	if _, err := w.Write(content); err != nil {
		return store.Object{}, err
	}
	return w.Commit(ctx)
}

// record writes the manifest and SHA256SUMS.
func (m *maker) record(needs []string) *engine.Step {
	return &engine.Step{
		ID: recordStep, Title: "write the manifest and checksums", Needs: needs,
		Key: func(ctx context.Context, in engine.Inputs) (string, error) {
			man, err := m.manifest(in)
			if err != nil {
				return "", err
			}
			data, err := man.Encode()
			return "record/1 " + string(data), err
		},
		Run: func(ctx context.Context, in engine.Inputs) ([]store.Object, error) {
			man, err := m.manifest(in)
			if err != nil {
				return nil, err
			}
			data, err := man.Encode()
			if err != nil {
				return nil, err
			}
			var out []store.Object
			for name, content := range map[string][]byte{release.Name: data, release.SumsName: man.Sums(data)} {
				o, err := m.put(ctx, name, content)
				if err != nil {
					return nil, err
				}
				out = append(out, o)
			}
			return out, nil
		},
	}
}

func (m *maker) manifest(in engine.Inputs) (*release.Manifest, error) {
	p := m.plan
	man := &release.Manifest{Format: release.Format, Project: p.Project, Version: p.Version, Preview: p.Preview, Tag: p.Tag, Commit: p.Commit}
	if p.Preview {
		man.Tag = ""
	}
	for _, f := range p.Files {
		if f.Kind == plan.KindManifest || f.Kind == plan.KindSums {
			continue
		}
		o, ok := find(in["pack "+f.Name], f.Name)
		if !ok {
			return nil, fmt.Errorf("%s was planned and not made", f.Name)
		}
		from, _, ok := strings.Cut(f.From, ": ")
		if !ok {
			from = ""
		}
		one := release.File{Name: f.Name, Kind: f.Kind, From: from, Platform: f.Platform, MediaType: mediaType(f.Name), Size: o.Size, SHA256: o.SHA256, SHA512: o.SHA512}
		if len(o.Extra) > 0 && (f.Kind == plan.KindBundle || f.Kind == plan.KindPackage) {
			if err := json.Unmarshal(o.Extra, &one.Holds); err != nil {
				return nil, fmt.Errorf("what %s holds: %w", f.Name, err)
			}
		}
		for _, p := range p.Packages {
			if p.File == f.Name {
				one.Package = &release.Package{Format: p.Format, Name: p.Name, Version: p.Version, Arch: p.Arch}
			}
		}
		man.Files = append(man.Files, one)
	}
	return man, nil
}

// read gives the manifest back that the record step wrote.
func (m *maker) read(objects []store.Object) (*release.Manifest, error) {
	o, ok := find(objects, release.Name)
	if !ok {
		return nil, fmt.Errorf("no manifest was made")
	}
	data, err := os.ReadFile(m.store.Path(o))
	if err != nil {
		return nil, err
	}
	return release.Parse(data)
}

func mediaType(name string) string {
	for _, t := range [][2]string{
		{".tar.gz", "application/gzip"}, {".tar.xz", "application/x-xz"}, {".tar.zst", "application/zstd"},
		{".deb", "application/vnd.debian.binary-package"}, {".rpm", "application/x-rpm"}, {".apk", "application/gzip"},
		{".zip", "application/zip"}, {".json", "application/json"}, {".md", "text/markdown"},
	} {
		if strings.HasSuffix(name, t[0]) {
			return t[1]
		}
	}
	return "application/octet-stream"
}
