package lang

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/process"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
)

// Command runs a project's own build, in a copy of its folder.
type Command struct {
	Root   string // the project's folder
	Jobs   int
	Finder *toolchain.Finder
	Inputs *Inputs
	Time   time.Time // of the commit: that of every file in the copy
	// Files lists the files below a folder of the project that belong to it,
	// without what git ignores.
	Files func(ctx context.Context, dir string) ([]string, error)
}

// Key is a text over the folder's files, the commands, and the compilers. The
// programs that the commands call are not in it, but for the compilers.
func (c *Command) Key(ctx context.Context, b plan.Build, stages Stages) (string, error) {
	cc, err := c.compiler(ctx, b)
	if err != nil {
		return "", err
	}
	files, err := c.Files(ctx, b.Dir)
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
	needs, err := stageSums(ctx, c.Inputs, b, stages)
	if err != nil {
		return "", err
	}
	key, err := json.Marshal([]any{"command/1", b.Target, b.Programs, b.Command, b.Env, cc.Identity, cc.Flags, cc.LinkFlags, cc.Env, c.Time.Unix(), list, needs})
	return string(key), err
}

// compiler is that of the platform. A build that needs none, such as one of
// scripts, may go without on the system that this is.
func (c *Command) compiler(ctx context.Context, b plan.Build) (*toolchain.Compiler, error) {
	cc, err := c.Finder.Find(ctx, b.Platform, b.Toolchain, true)
	if err != nil && toolchain.Unavailable(err) && b.Toolchain == "" && b.Platform.Base() == platform.Host().Base() {
		return &toolchain.Compiler{Platform: b.Platform}, nil
	}
	return cc, err
}

// Build runs the commands in the folder tmp; it gives the stage in it, with what
// they have installed. The folder's path should have no spaces, since few
// builds can stand them.
func (c *Command) Build(ctx context.Context, b plan.Build, tmp string, stages Stages) (stage string, err error) {
	cc, err := c.compiler(ctx, b)
	if err != nil {
		return "", err
	}
	dir, home := filepath.Join(tmp, "stage"), filepath.Join(tmp, "home")
	v := runValues{stage: dir, work: filepath.Join(tmp, "work"), triplet: cc.Triplet, jobs: strconv.Itoa(max(1, c.Jobs)), stages: Stages{}}
	for _, sub := range []string{dir, home} {
		if err := os.Mkdir(sub, 0o755); err != nil {
			return "", err
		}
	}
	for name, folder := range stages {
		v.stages[name] = filepath.Join(tmp, "needs-"+name)
		if err := os.Symlink(folder, v.stages[name]); err != nil {
			return "", err
		}
	}
	if err := c.copy(ctx, b.Dir, v.work); err != nil {
		return "", fmt.Errorf("copy the folder %s: %w", b.Dir, err)
	}
	env := c.env(cc, b, v, home)
	for _, planned := range b.Command.Run {
		words := fillAll(planned, v)
		stdout, stderr, err := process.Run(ctx, process.Command{Dir: v.work, Env: env, Name: words[0], Args: words[1:]})
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		said := strings.NewReplacer(v.work, "{work}", dir, "{stage}").Replace(strings.TrimSpace(stdout + "\n" + stderr))
		return "", &CompileError{Platform: b.Platform, Programs: []string{b.Programs[0].Program},
			What:   fmt.Sprintf("is not built: %q failed (%v)", strings.Join(planned, " "), err),
			Output: lastLines(said, 40)}
	}
	if file := b.Programs[0].File; file != "" {
		if info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(file))); err != nil || info.IsDir() {
			return "", fmt.Errorf("%s for %s: the commands left no %s in the stage: they must install there, or \"file\" in [program.%s] must say where it is", b.Programs[0].Program, b.Target, file, b.Programs[0].Program)
		}
	}
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) == 0 {
		return "", fmt.Errorf("%s for %s: the commands left nothing in the stage: they must install into {stage}", b.Programs[0].Program, b.Target)
	}
	return dir, err
}

// env is all that the commands get.
func (c *Command) env(cc *toolchain.Compiler, b plan.Build, v runValues, home string) []string {
	remap := "-ffile-prefix-map=" + v.work + "=."
	for _, dir := range v.stages {
		remap += " -ffile-prefix-map=" + dir + "=/stage"
	}
	if cc.Folder != "" {
		remap += " -ffile-prefix-map=" + cc.Folder + "=/toolchain"
	}
	flags := strings.Join(append([]string{"-O2", remap}, cc.Flags...), " ")
	env := bareEnv("HOME="+home, "GIT_CEILING_DIRECTORIES="+filepath.Dir(v.work), "SOURCE_DATE_EPOCH="+strconv.FormatInt(c.Time.Unix(), 10),
		"CFLAGS="+flags, "CXXFLAGS="+flags, "LDFLAGS="+strings.Join(append(cc.Flags, cc.LinkFlags...), " "), "ARFLAGS=rcD",
		"PIEDMONT_STAGE="+v.stage, "PIEDMONT_WORK="+v.work, "PIEDMONT_PLATFORM="+b.Target, "PIEDMONT_TRIPLET="+cc.Triplet)
	if b.Platform.Base() != platform.Host().Base() && cc.Triplet != "" && runtime.GOOS == "linux" {
		// Libraries of this machine are none for the platform.
		env = append(env, "PKG_CONFIG_LIBDIR=/usr/"+cc.Triplet+"/lib/pkgconfig:/usr/lib/"+cc.Triplet+"/pkgconfig")
	}
	env = append(env, cc.Environment()...)
	return append(env, fillAll(b.Env, v)...)
}

// copy brings the folder's files to where they are built. All get the commit's
// time: then no rule finds one of them older than another.
func (c *Command) copy(ctx context.Context, dir, to string) error {
	files, err := c.Files(ctx, dir)
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
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	mode := fs.FileMode(0o644)
	if info.Mode()&0o100 != 0 {
		mode = 0o755
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Chmod(mode)
	}
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Chtimes(to, modified, modified)
	}
	return err
}

// RemoveAll removes a folder also when a build has made parts of it read-only.
func RemoveAll(dir string) error {
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(path, 0o755)
		}
		return nil
	})
	return os.RemoveAll(dir)
}
