package outbox

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/format/exe"
	"piedmont/internal/lang"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
)

// made is what is known of a file that a build left, beside its bytes. Its
// name in the store is its path in the stage.
type made struct {
	Executable bool      `json:"executable,omitempty"`
	Link       string    `json:"link,omitempty"`
	Binary     *exe.Info `json:"binary,omitempty"`
	Paths      []string  `json:"paths,omitempty"`   // of this machine, in a binary
	Version    bool      `json:"version,omitempty"` // the version stands in it
}

func (m made) octal() string {
	if m.Executable {
		return "0755"
	}
	return "0644"
}

func madeOf(o store.Object) (made, error) {
	var m made
	if err := json.Unmarshal(o.Extra, &m); err != nil {
		return m, fmt.Errorf("what %s is: %w", o.Name, err)
	}
	return m, nil
}

// verbs say what a build does, by language.
var verbs = map[string]string{"go": "compile", "c": "compile", "command": "build", "prebuilt": "take"}

// build is the step that makes the programs of a planned build.
func (m *maker) build(b plan.Build) *engine.Step {
	var needs []string
	for _, n := range b.Needs {
		needs = append(needs, examined(n.Build))
	}
	s := &engine.Step{
		ID: b.ID, Needs: needs,
		Title: fmt.Sprintf("%s %s for %s", verbs[b.Language], b.Names(), b.Target),
		Run: func(ctx context.Context, in engine.Inputs) ([]store.Object, error) {
			stages, err := m.stages.lay(b, in)
			if err != nil {
				return nil, err
			}
			return m.runBuild(ctx, b, stages)
		},
		Key: func(ctx context.Context, in engine.Inputs) (string, error) { return m.buildKey(ctx, b, in) },
	}
	if b.C != nil {
		s.After = s.Key // what was compiled tells which headers count
	}
	return s
}

func (m *maker) buildKey(ctx context.Context, b plan.Build, in engine.Inputs) (string, error) {
	stages, err := m.stages.lay(b, in)
	if err != nil {
		return "", err
	}
	var key string
	switch b.Language {
	case "go":
		key, err = m.golang.Key(ctx, b, stages)
	case "c":
		key, err = m.c.Key(ctx, b, stages)
	case "command":
		key, err = m.run.Key(ctx, b, stages)
	case "prebuilt":
		key, err = m.taken.Key(ctx, b)
	}
	if err != nil || key == "" {
		return "", err
	}
	// What is looked for while the files are read.
	texts, folders := m.sought(b)
	return fmt.Sprintf("examined/2 %q %v %s", texts, len(folders) > 0, key), nil
}

// sought is what is looked for in the bytes of a build's programs: only what
// somebody expects, since it takes as long as compressing them fast.
func (m *maker) sought(b plan.Build) (texts, folders []string) {
	for _, p := range b.Programs {
		if p.Expect.ContainsVersion {
			texts = []string{m.plan.Version}
		}
		if p.Expect.NoPaths {
			folders = m.ownFolders()
		}
	}
	return texts, folders
}

func (m *maker) runBuild(ctx context.Context, b plan.Build, stages lang.Stages) ([]store.Object, error) {
	if b.Language == "command" {
		tmp, err := os.MkdirTemp("", "piedmont-build-")
		if err != nil {
			return nil, err
		}
		defer func() { _ = lang.RemoveAll(tmp) }()
		stage, err := m.run.Build(ctx, b, tmp, stages)
		if err != nil {
			return nil, err
		}
		return m.keepStage(ctx, b, stage)
	}
	if b.Language == "prebuilt" {
		o, err := m.take(ctx, b)
		return []store.Object{o}, err
	}
	sum := sha256.Sum256([]byte(b.Dir + "\x00" + b.ID))
	kept := lang.Kept{Dir: filepath.Join(m.o.Root, WorkDir, "programs", hex.EncodeToString(sum[:8]))}
	if err := kept.Open(); err != nil {
		return nil, err
	}
	var err error
	switch b.Language {
	case "go":
		err = m.golang.Build(ctx, b, kept.Dir, stages)
	case "c":
		err = m.c.Build(ctx, b, kept.Dir, stages)
	default:
		err = fmt.Errorf("there is no builder for the language %q", b.Language)
	}
	if err != nil {
		return nil, err
	}
	if b.C != nil && b.C.Library {
		return m.keepStage(ctx, b, kept.Dir) // headers are in it too
	}
	var out []store.Object
	var files []string
	for _, p := range b.Programs {
		o, err := m.keep(ctx, b, filepath.Join(kept.Dir, p.File), p.File)
		if err != nil {
			return nil, err
		}
		out, files = append(out, o), append(files, p.File)
	}
	return out, kept.Close(files)
}

// take keeps a file that was made elsewhere, from where it is.
func (m *maker) take(ctx context.Context, b plan.Build) (store.Object, error) {
	want, err := m.taken.Digest(ctx, b)
	if err != nil {
		return store.Object{}, err
	}
	about := made{Executable: true}
	o, err := m.keepFile(ctx, b, m.taken.Path(b), b.Programs[0].File, &about)
	if err != nil {
		return o, err
	}
	if o.SHA256 != want {
		return o, notItsDigest(m.taken.Path(b))
	}
	o.Extra, err = json.Marshal(about)
	return o, err
}

// keepStage puts everything below a folder into the store.
func (m *maker) keepStage(ctx context.Context, b plan.Build, dir string) ([]store.Object, error) {
	var out []store.Object
	err := filepath.WalkDir(dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, file)
		if err != nil {
			return err
		}
		o, err := m.keep(ctx, b, file, filepath.ToSlash(name))
		out = append(out, o)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("keep what was installed: %w", err)
	}
	return out, nil
}

// keep puts one file into the store. A binary is examined in the same read.
func (m *maker) keep(ctx context.Context, b plan.Build, file, name string) (store.Object, error) {
	info, err := os.Lstat(file)
	if err != nil {
		return store.Object{}, err
	}
	var about made
	var o store.Object
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if about.Link, err = os.Readlink(file); err != nil {
			return store.Object{}, err
		}
		if o, err = m.put(ctx, name, nil); err != nil {
			return store.Object{}, err
		}
	case !info.Mode().IsRegular():
		return store.Object{}, fmt.Errorf("%s is neither file, folder nor link", name)
	default:
		about.Executable = info.Mode()&0o100 != 0
		if o, err = m.keepFile(ctx, b, file, name, &about); err != nil {
			return store.Object{}, err
		}
	}
	o.Extra, err = json.Marshal(about)
	return o, err
}

func (m *maker) keepFile(ctx context.Context, b plan.Build, file, name string, about *made) (store.Object, error) {
	f, err := os.Open(file)
	if err != nil {
		return store.Object{}, err
	}
	defer func() { _ = f.Close() }()
	head := make([]byte, 4)
	n, _ := f.ReadAt(head, 0)
	if !exe.Magic(head[:n]) {
		return m.store.Copy(ctx, file, name)
	}
	texts, folders := m.sought(b)
	scan := exe.NewScanner(texts, append([]string{}, folders...))
	var also []io.Writer
	if len(texts)+len(folders) > 0 {
		also = append(also, scan)
	}
	o, err := m.store.Copy(ctx, file, name, also...)
	if err != nil {
		return o, err
	}
	about.Binary, err = exe.Examine(f, o.Size)
	if errors.Is(err, exe.ErrNotBinary) {
		return o, nil
	}
	if err != nil {
		return o, fmt.Errorf("%s: %w", name, err)
	}
	about.Paths, about.Version = scan.Paths(), scan.Found(0)
	return o, nil
}

// ownFolders are folders of this machine that no program should name.
func (m *maker) ownFolders() []string {
	out := []string{m.o.Root}
	if home, err := os.UserHomeDir(); err == nil {
		out = append(out, home)
	}
	if real, err := filepath.EvalSymlinks(m.o.Root); err == nil && real != m.o.Root {
		out = append(out, real)
	}
	return out
}

// tree takes what a build left below a folder of its stage.
func (m *maker) tree(a plan.Archive, e plan.Entry, objects []store.Object) ([]entry, error) {
	var out []entry
	for _, o := range objects {
		to, ok := below(e.From, o.Name)
		if !ok {
			continue
		}
		about, err := madeOf(o)
		if err != nil {
			return nil, err
		}
		at := path.Join(e.Path, to)
		if about.Link != "" {
			if a.Format == "zip" && plan.Leaves(at, about.Link) {
				return nil, fmt.Errorf("the symbolic link %s leads to %s, outside of the archive, which zip cannot hold", at, about.Link)
			}
			out = append(out, entry{Path: at, Mode: "0777", Link: about.Link})
			continue
		}
		out = append(out, m.stored(e, at, about.octal(), o, about))
	}
	if len(out) == 0 {
		var names []string
		for _, o := range objects {
			names = append(names, o.Name)
		}
		slices.Sort(names)
		return nil, fmt.Errorf("the stage has nothing below %q: it holds %s; change \"from\" in [bundle.%s] trees", e.From, strings.Join(names[:min(len(names), 6)], ", "), a.Bundle)
	}
	return out, nil
}

// stages are folders with what builds made, for those that need it.
type stages struct {
	dir   string
	store *store.Store
	mu    keyed
}

// lay puts what a build needs into folders, and gives them by program. A folder
// that is right already stays as it is.
func (s *stages) lay(b plan.Build, in engine.Inputs) (lang.Stages, error) {
	out := lang.Stages{}
	for _, need := range b.Needs {
		sum := sha256.Sum256([]byte(need.Build + "\x00" + need.Program))
		dir := filepath.Join(s.dir, hex.EncodeToString(sum[:8]))
		unlock := s.mu.lock(dir)
		err := s.one(dir, in[examined(need.Build)])
		unlock()
		if err != nil {
			return nil, fmt.Errorf("lay out what %s made: %w", need.Program, err)
		}
		out[need.Program] = dir
	}
	return out, nil
}

func (s *stages) one(dir string, objects []store.Object) error {
	want, err := json.Marshal(objects)
	if err != nil {
		return err
	}
	record := dir + ".json"
	if have, err := os.ReadFile(record); err == nil && string(have) == string(want) {
		if _, err := os.Stat(dir); err == nil {
			return nil
		}
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.Remove(record); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, o := range objects {
		about, err := madeOf(o)
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(o.Name))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if about.Link != "" {
			err = os.Symlink(about.Link, to)
		} else {
			err = copyObject(s.store.Path(o), to, about)
		}
		if err != nil {
			return err
		}
	}
	return os.WriteFile(record, want, 0o644)
}

func copyObject(from, to string, about made) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	mode := fs.FileMode(0o644)
	if about.Executable {
		mode = 0o755
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	return err
}
