package cc

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"piedmont/internal/lang"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/make/engine"
	"piedmont/internal/make/store"
	"piedmont/internal/plan"
)

// builder compiles C and C++ for one project. Objects are kept, and compiled again
// only when something that they were made from has changed.
type builder struct {
	*lang.Shop
	compile chan struct{} // one token for each compiler that may run at once
}

// Builder makes a builder whose compilers take turns, as many at once as there are
// jobs.
func (Language) Builder(_ context.Context, s *lang.Shop, _ []*plan.Build) (lang.Builder, error) {
	return &builder{s, make(chan struct{}, max(1, s.Jobs))}, nil
}

// job is one build with all that its compiling and linking need.
type job struct {
	*builder
	b      *plan.Build
	c      *Build
	cc     *toolchain.Compiler
	stages lang.Stages
}

func (c *builder) job(ctx context.Context, b *plan.Build, stages lang.Stages) (*job, error) {
	cc, err := c.Finder.Find(ctx, b.Platform, toolchain.Options{Name: b.Toolchain, Fetch: true})
	return &job{c, b, b.Job.(*Build), cc, stages}, err
}

// Prepare finds out what a build depends on, as far as its last run tells.
func (c *builder) Prepare(ctx context.Context, b *plan.Build, stages lang.Stages) (engine.Work, error) {
	j, err := c.job(ctx, b, stages)
	if err != nil {
		return engine.Work{}, err
	}
	w := engine.Work{After: j.key} // what was compiled tells which headers count
	if w.Key, err = j.key(ctx); err != nil {
		return w, err
	}
	w.Run = func(ctx context.Context) ([]store.Object, error) {
		return c.InBuildDir(ctx, b, func(dir string) error { return j.build(ctx, dir) })
	}
	return w, nil
}

// key is a text over everything that the last build read. It is "" when that is
// not known, so that the build runs; then only what changed is compiled.
func (j *job) key(ctx context.Context) (string, error) {
	o := j.open()
	look := newLooker(j.Inputs, o.headers)
	var deps []string
	for _, src := range j.c.Sources {
		known, ok := o.state[src]
		if !ok || known.Command != j.command(src) {
			return "", nil
		}
		for dep := range known.Deps {
			sum, err := look.sum(ctx, j.absolute(dep))
			if err != nil {
				return "", nil
			}
			deps = append(deps, dep+" "+sum)
		}
		deps = append(deps, look.others(known))
	}
	needs, err := j.stages.Sums(ctx, j.Inputs, j.b)
	if err != nil {
		return "", err
	}
	deps = append(deps, needs...)
	slices.Sort(deps)
	key, err := json.Marshal([]any{"c/1", j.b.Target, j.b.Programs, j.cc.Identity, j.linkArgs(nil, ""),
		slices.Compact(deps), j.c.Include, j.c.Library})
	return string(key), err
}

// build compiles and links into dir.
func (j *job) build(ctx context.Context, dir string) error {
	objects, err := j.objects(ctx, j.open())
	if err != nil {
		return err
	}
	out := filepath.Join(dir, filepath.FromSlash(j.b.Programs[0].File))
	if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
		return err
	}
	if j.c.Library {
		if err := j.archive(ctx, objects, out); err != nil {
			return err
		}
		return j.headers(dir)
	}
	driver, err := driver(j.cc, j.c.CXX)
	if err != nil {
		return err
	}
	return j.call(ctx, "does not link", driver, j.linkArgs(objects, out)...)
}

// call runs a tool that makes the program; what names the failure.
func (j *job) call(ctx context.Context, what, tool string, args ...string) error {
	_, stderr, err := lang.Run(ctx, j.Root, j.environ(), tool, args...)
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return &lang.CompileError{Platform: j.b.Platform, Programs: []string{j.b.Programs[0].Program}, What: what,
		Output: j.plain(lang.FirstOf(stderr, err.Error()))}
}

// driver is the compiler that is called: that for C++ also links C.
func driver(cc *toolchain.Compiler, cxx bool) (string, error) {
	if !cxx {
		return cc.Tools["cc"], nil
	}
	if cc.Tools["cxx"] != "" {
		return cc.Tools["cxx"], nil
	}
	mend := "name it with tools = { cxx = ... } in [toolchain." + cc.Name + "]"
	if packages := toolchain.Packages(cc.Platform, true); cc.Name == "" && len(packages) > 0 {
		mend = "on Debian: apt-get install " + packages[0]
	}
	return "", toolchain.Missing(fmt.Sprintf("there is a C compiler for %s, and none for C++", cc.Platform), mend)
}

func (j *job) environ() []string {
	return slices.Concat(lang.BareEnv(j.Env.Env, "SOURCE_DATE_EPOCH="+strconv.FormatInt(j.Time.Unix(), 10)),
		j.cc.Env, j.b.Env)
}

// compileArgs are the arguments for one source; names and paths of this machine
// are mapped away, so that they leave no trace in the object.
func (j *job) compileArgs(src string) []string {
	cc, c := j.cc, j.c
	args := slices.Clone(cc.Flags)
	if !slices.ContainsFunc(slices.Concat(cc.Flags, c.Flags),
		func(f string) bool { return strings.HasPrefix(f, "-O") }) {
		args = append(args, "-O2")
	}
	args = append(args, "-ffile-prefix-map="+j.Root+"=.")
	if cc.Folder != "" {
		args = append(args, "-ffile-prefix-map="+cc.Folder+"=/toolchain")
	}
	args = append(args, "-frandom-seed="+src)
	for _, d := range c.Define {
		args = append(args, "-D"+d)
	}
	for _, dir := range c.Include {
		args = append(args, "-I"+dir)
	}
	for _, dir := range j.stageFolders("include") {
		args = append(args, "-I"+j.relative(dir))
	}
	return append(args, c.Flags...)
}

// linkArgs are the arguments for linking.
func (j *job) linkArgs(objects []string, out string) []string {
	cc, c := j.cc, j.c
	args := slices.Clone(cc.Flags)
	args = append(args, "-o", out)
	args = append(args, objects...)
	if c.Static {
		args = append(args, "-static")
	}
	if !c.Keep {
		args = append(args, "-s")
	}
	if j.b.Platform.OS == "windows" {
		args = append(args, "-Wl,--no-insert-timestamp")
	}
	for _, dir := range j.stageFolders("lib") {
		args = append(args, "-L"+j.relative(dir))
	}
	args = append(args, cc.LinkFlags...)
	args = append(args, c.LinkFlags...)
	// Libraries that were made here come before those that they may need.
	for _, lib := range slices.Backward(c.Libraries) {
		args = append(args, "-l"+lib)
	}
	return args
}

// stageFolders finds a folder's usual places in the stages of what is needed.
func (j *job) stageFolders(name string) []string {
	var out []string
	for _, need := range j.b.Needs {
		for _, prefix := range []string{"", "usr", "usr/local"} {
			dir := filepath.Join(j.stages[need.Program], prefix, name)
			if info, err := os.Stat(dir); err == nil && info.IsDir() {
				out = append(out, dir)
			}
		}
	}
	return out
}

// archive makes a static library without times and owners.
func (j *job) archive(ctx context.Context, objects []string, out string) error {
	ar := j.cc.Tools["ar"]
	if ar == "" {
		return toolchain.Missing("there is no ar for "+j.b.Target,
			"install the binutils of its compiler, or name it in tools")
	}
	if err := os.Remove(out); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return j.call(ctx, "is not put together", ar, append([]string{"rcsD", out}, objects...)...)
}

// headers puts a library's include folders into its stage.
func (j *job) headers(dir string) error {
	for _, include := range j.c.Include {
		from := filepath.Join(j.Root, filepath.FromSlash(include))
		if err := os.CopyFS(filepath.Join(dir, "include"), os.DirFS(from)); err != nil && !errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("copy the headers of %s: %w", include, err)
		}
	}
	return nil
}

func (c *builder) relative(path string) string {
	if rel, err := filepath.Rel(c.Root, path); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return path
}

func (c *builder) absolute(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(c.Root, path)
}

// plain takes the project's path out of what a tool said.
func (c *builder) plain(text string) string {
	return strings.ReplaceAll(text, c.Root+string(filepath.Separator), "")
}
