package command

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/process"
	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
)

// builder runs a project's own builds, each in a copy of its folder.
type builder struct{ *lang.Shop }

// Builder makes one for a run.
func (Language) Builder(_ context.Context, s *lang.Shop, _ []*plan.Build) (lang.Builder, error) {
	return &builder{s}, nil
}

// job is one build that runs.
type job struct {
	*builder
	b      *plan.Build
	cc     *toolchain.Compiler
	values lang.RunValues
}

// Prepare finds out what a build depends on.
func (c *builder) Prepare(ctx context.Context, b *plan.Build, stages lang.Stages) (engine.Work, error) {
	cc, err := c.compiler(ctx, b)
	if err != nil {
		return engine.Work{}, err
	}
	key, err := c.key(ctx, b, cc, stages)
	return engine.Work{Key: key, Run: func(ctx context.Context) ([]store.Object, error) {
		tmp, err := os.MkdirTemp("", "piedmont-build-")
		if err != nil {
			return nil, err
		}
		defer func() { _ = removeAll(tmp) }()
		j := &job{builder: c, b: b, cc: cc}
		if err := j.build(ctx, tmp, stages); err != nil {
			return nil, err
		}
		return c.KeepStage(ctx, b, j.values.Stage)
	}}, err
}

// key is a text over the folder's files, the commands, and the compilers. The
// programs that the commands call are not in it, but for the compilers.
func (c *builder) key(ctx context.Context, b *plan.Build, cc *toolchain.Compiler, stages lang.Stages) (string, error) {
	files, err := c.Repo.Files(ctx, b.Dir)
	if err != nil {
		return "", err
	}
	type file struct {
		Name, SHA256, Link string
		Executable         bool
	}
	var list []file
	for _, name := range files {
		path := filepath.Join(c.Root, filepath.FromSlash(b.Dir), filepath.FromSlash(name))
		info, err := os.Lstat(path)
		if err != nil {
			continue // removed, and git knows it still
		}
		one := file{Name: name, Executable: info.Mode()&0o100 != 0}
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			one.Link, err = os.Readlink(path)
		case info.Mode().IsRegular():
			one.SHA256, _, err = c.Inputs.File(ctx, path)
		}
		if err != nil {
			return "", fmt.Errorf("read %s: %w", name, err)
		}
		list = append(list, one)
	}
	needs, err := stages.Sums(ctx, c.Inputs, b)
	if err != nil {
		return "", err
	}
	key, err := json.Marshal([]any{"command/1", b.Target, b.Programs, b.Job, b.Env, cc.Identity, cc.Flags,
		cc.LinkFlags, cc.Env, c.Time.Unix(), list, needs})
	return string(key), err
}

// compiler is that of the platform. A build that needs none, such as one of
// scripts, may go without on the system that this is.
func (c *builder) compiler(ctx context.Context, b *plan.Build) (*toolchain.Compiler, error) {
	cc, err := c.Finder.Find(ctx, b.Platform, toolchain.Options{Name: b.Toolchain, Fetch: true})
	if err != nil && toolchain.Unavailable(err) && b.Toolchain == "" && b.Platform.Base() == platform.Host().Base() {
		return &toolchain.Compiler{Platform: b.Platform}, nil
	}
	return cc, err
}

// build runs the commands in the folder tmp, which should have no spaces in its
// path, since few builds can stand them. What they have installed is in the stage.
func (j *job) build(ctx context.Context, tmp string, stages lang.Stages) error {
	stage, home := filepath.Join(tmp, "stage"), filepath.Join(tmp, "home")
	j.values = lang.RunValues{Stage: stage, Work: filepath.Join(tmp, "work"), Triplet: j.cc.Triplet,
		Jobs: strconv.Itoa(max(1, j.Jobs)), Stages: lang.Stages{}}
	for _, sub := range []string{stage, home} {
		if err := os.Mkdir(sub, 0o755); err != nil {
			return err
		}
	}
	for name, folder := range stages {
		j.values.Stages[name] = filepath.Join(tmp, "needs-"+name)
		if err := os.Symlink(folder, j.values.Stages[name]); err != nil {
			return err
		}
	}
	if err := j.copy(ctx, j.b.Dir, j.values.Work); err != nil {
		return fmt.Errorf("copy the folder %s: %w", j.b.Dir, err)
	}
	env := j.environ(home)
	for _, planned := range j.b.Job.(*Build).Run {
		words := j.values.Fill(planned)
		stdout, stderr, err := process.Run(ctx, process.Command{Dir: j.values.Work, Env: env, Name: words[0],
			Args: words[1:]})
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		said := strings.NewReplacer(j.values.Work, "{work}", stage,
			"{stage}").Replace(strings.TrimSpace(stdout + "\n" + stderr))
		return &lang.CompileError{Platform: j.b.Platform, Programs: []string{j.b.Programs[0].Program},
			What:   fmt.Sprintf("is not built: %q failed (%v)", strings.Join(planned, " "), err),
			Output: lang.LastLines(said, 40)}
	}
	return j.installed(stage)
}

// installed sees that the commands left what they should.
func (j *job) installed(stage string) error {
	program := j.b.Programs[0]
	if program.File != "" {
		if info, err := os.Stat(filepath.Join(stage, filepath.FromSlash(program.File))); err != nil || info.IsDir() {
			return fmt.Errorf("%s for %s: the commands left no %s in the stage: they must install there, or "+
				"\"file\" in [program.%s] must say where it is",
				program.Program, j.b.Target, program.File, program.Program)
		}
	}
	entries, err := os.ReadDir(stage)
	if err == nil && len(entries) == 0 {
		return fmt.Errorf("%s for %s: the commands left nothing in the stage: they must install into {stage}",
			program.Program, j.b.Target)
	}
	return err
}

// environ is all that the commands get.
func (j *job) environ(home string) []string {
	cc, b, v := j.cc, j.b, j.values
	remap := "-ffile-prefix-map=" + v.Work + "=."
	for _, dir := range v.Stages {
		remap += " -ffile-prefix-map=" + dir + "=/stage"
	}
	if cc.Folder != "" {
		remap += " -ffile-prefix-map=" + cc.Folder + "=/toolchain"
	}
	flags := strings.Join(append([]string{"-O2", remap}, cc.Flags...), " ")
	env := lang.BareEnv(j.Env.Env, "HOME="+home, "GIT_CEILING_DIRECTORIES="+filepath.Dir(v.Work),
		"SOURCE_DATE_EPOCH="+strconv.FormatInt(j.Time.Unix(), 10),
		"CFLAGS="+flags, "CXXFLAGS="+flags, "LDFLAGS="+strings.Join(slices.Concat(cc.Flags, cc.LinkFlags), " "),
		"ARFLAGS=rcD",
		"PIEDMONT_STAGE="+v.Stage, "PIEDMONT_WORK="+v.Work, "PIEDMONT_PLATFORM="+b.Target,
		"PIEDMONT_TRIPLET="+cc.Triplet)
	if b.Platform.Base() != platform.Host().Base() && cc.Triplet != "" && runtime.GOOS == "linux" {
		// Libraries of this machine are none for the platform.
		env = append(env, "PKG_CONFIG_LIBDIR=/usr/"+cc.Triplet+"/lib/pkgconfig:/usr/lib/"+cc.Triplet+"/pkgconfig")
	}
	env = append(env, cc.Environment()...)
	return append(env, v.Fill(b.Env)...)
}

// copy brings the folder's files to where they are built. All get the commit's
// time: then no rule finds one of them older than another.
func (c *builder) copy(ctx context.Context, dir, to string) error {
	files, err := c.Repo.Files(ctx, dir)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	for _, name := range files {
		if err := ctx.Err(); err != nil {
			return err
		}
		from := filepath.Join(c.Root, filepath.FromSlash(dir), filepath.FromSlash(name))
		info, err := os.Lstat(from)
		if err != nil {
			continue
		}
		if err := copyFile(from, filepath.Join(to, filepath.FromSlash(name)), info, c.Time); err != nil {
			return err
		}
	}
	return nil
}

func copyFile(from, to string, info fs.FileInfo, modified time.Time) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		return os.Symlink(target, to)
	}
	if !info.Mode().IsRegular() {
		return nil // a submodule's folder
	}
	mode := fs.FileMode(0o644)
	if info.Mode()&0o100 != 0 {
		mode = 0o755
	}
	if err := lang.CopyFile(from, to, mode); err != nil {
		return err
	}
	return os.Chtimes(to, modified, modified)
}

// removeAll removes a folder also when a build has made parts of it read-only.
func removeAll(dir string) error {
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(path, 0o755)
		}
		return nil
	})
	return os.RemoveAll(dir)
}
