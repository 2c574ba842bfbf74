package lang

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
	"path/filepath"

	"piedmont/internal/format/exe"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
)

// Shop is what builders work with: the run's environment, compilers, and the store
// for what comes out.
type Shop struct {
	*work.Env
	Finder *toolchain.Finder
	stages *stageFolders
}

func newShop(env *work.Env, finder *toolchain.Finder) *Shop {
	return &Shop{Env: env, Finder: finder, stages: &stageFolders{dir: filepath.Join(env.Dir, "stages"),
		store: env.Store}}
}

// build is the step that makes the programs of a planned build.
func (s *Shop) build(builder Builder, b *plan.Build) *engine.Step {
	var needs []string
	for _, n := range b.Needs {
		needs = append(needs, work.Examined(n.Build))
	}
	return &engine.Step{
		ID: b.ID, Needs: needs,
		Title: fmt.Sprintf("%s %s for %s", b.Verb, b.Names(), b.Target),
		Prepare: func(ctx context.Context, in engine.Inputs) (engine.Work, error) {
			stages, err := s.stages.lay(b, in)
			if err != nil {
				return engine.Work{}, err
			}
			w, err := builder.Prepare(ctx, b, stages)
			if err != nil {
				return w, err
			}
			w.Key = s.key(b, w.Key)
			if after := w.After; after != nil {
				w.After = func(ctx context.Context) (string, error) {
					key, err := after(ctx)
					return s.key(b, key), err
				}
			}
			return w, nil
		},
	}
}

// key adds what is looked for while the files are read.
func (s *Shop) key(b *plan.Build, key string) string {
	if key == "" {
		return ""
	}
	texts, folders := s.sought(b)
	return fmt.Sprintf("examined/2 %q %v %s", texts, len(folders) > 0, key)
}

// sought is what is looked for in the bytes of a build's programs: only what
// somebody expects, since it takes as long as compressing them fast.
func (s *Shop) sought(b *plan.Build) (texts, folders []string) {
	for _, p := range b.Programs {
		if p.Expect.ContainsVersion {
			texts = []string{s.Version}
		}
		if p.Expect.NoPaths {
			folders = s.ownFolders()
		}
	}
	return texts, folders
}

// ownFolders are folders of this machine that no program should name.
func (s *Shop) ownFolders() []string {
	out := []string{s.Root}
	if home := s.Env.Env.Home(); home != "" {
		out = append(out, home)
	}
	if real, err := filepath.EvalSymlinks(s.Root); err == nil && real != s.Root {
		out = append(out, real)
	}
	return out
}

// BuildDir is where a build leaves its programs between runs.
func (s *Shop) BuildDir(b *plan.Build) BuildDir {
	sum := sha256.Sum256([]byte(b.Dir + "\x00" + b.ID))
	return BuildDir{Dir: filepath.Join(s.Dir, "programs", hex.EncodeToString(sum[:8]))}
}

// InBuildDir has compile leave its programs in the build's own folder and keeps
// them, or, of a build with a stage, all that is there.
func (s *Shop) InBuildDir(ctx context.Context, b *plan.Build, compile func(dir string) error) ([]store.Object,
	error) {
	kept := s.BuildDir(b)
	if err := kept.Open(); err != nil {
		return nil, err
	}
	if err := compile(kept.Dir); err != nil {
		return nil, err
	}
	if b.Job.Stage() {
		return s.KeepStage(ctx, b, kept.Dir)
	}
	var out []store.Object
	var files []string
	for _, p := range b.Programs {
		o, err := s.keep(ctx, b, filepath.Join(kept.Dir, p.File), p.File)
		if err != nil {
			return nil, err
		}
		out, files = append(out, o), append(files, p.File)
	}
	return out, kept.Close(files)
}

// KeepStage puts everything below a folder into the store.
func (s *Shop) KeepStage(ctx context.Context, b *plan.Build, dir string) ([]store.Object, error) {
	var out []store.Object
	err := filepath.WalkDir(dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, file)
		if err != nil {
			return err
		}
		o, err := s.keep(ctx, b, file, filepath.ToSlash(name))
		out = append(out, o)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("keep what was installed: %w", err)
	}
	return out, nil
}

// KeepProgram puts a file that is an executable, whatever its mode, into the store.
func (s *Shop) KeepProgram(ctx context.Context, b *plan.Build, file, name string) (store.Object, error) {
	about := work.Made{Executable: true}
	o, err := s.copy(ctx, b, file, name, &about)
	if err != nil {
		return o, err
	}
	o.Extra, err = json.Marshal(about)
	return o, err
}

// keep puts one file into the store.
func (s *Shop) keep(ctx context.Context, b *plan.Build, file, name string) (store.Object, error) {
	info, err := os.Lstat(file)
	if err != nil {
		return store.Object{}, err
	}
	var about work.Made
	var o store.Object
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if about.Link, err = os.Readlink(file); err != nil {
			return store.Object{}, err
		}
		if o, err = s.Put(ctx, name, nil); err != nil {
			return store.Object{}, err
		}
	case !info.Mode().IsRegular():
		return store.Object{}, fmt.Errorf("%s is neither file, folder nor link", name)
	default:
		about.Executable = info.Mode()&0o100 != 0
		if o, err = s.copy(ctx, b, file, name, &about); err != nil {
			return store.Object{}, err
		}
	}
	o.Extra, err = json.Marshal(about)
	return o, err
}

// copy puts a file's bytes into the store. A binary is examined in the same read.
func (s *Shop) copy(ctx context.Context, b *plan.Build, file, name string, about *work.Made) (store.Object, error) {
	f, err := os.Open(file)
	if err != nil {
		return store.Object{}, err
	}
	defer func() { _ = f.Close() }()
	head := make([]byte, 4)
	n, _ := f.ReadAt(head, 0)
	if !exe.Magic(head[:n]) {
		return s.Store.Copy(ctx, file, name)
	}
	texts, folders := s.sought(b)
	scan := exe.NewScanner(texts, append([]string{}, folders...))
	var also []io.Writer
	if len(texts)+len(folders) > 0 {
		also = append(also, scan)
	}
	o, err := s.Store.Copy(ctx, file, name, also...)
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
