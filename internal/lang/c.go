package lang

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
	"sync"
	"time"

	"piedmont/internal/base/progress"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/plan"
)

// C compiles C and C++ for one project. Objects are kept, and compiled again
// only when something that they were made from has changed.
type C struct {
	Root    string // the project's folder
	Work    string // where objects are kept
	Finder  *toolchain.Finder
	Inputs  *Inputs
	Time    time.Time // of the commit; what __DATE__ says
	Events  progress.Sink
	compile chan struct{} // one token for each compiler that may run at once
}

// NewC makes a builder whose compilers take turns, jobs at once.
func NewC(c C, jobs int) *C {
	c.compile = make(chan struct{}, max(1, jobs))
	return &c
}

// Key is a text over everything that the last build of b read. It is "" when
// that is not known, so that the build runs; then only what changed is compiled.
func (c *C) Key(ctx context.Context, b plan.Build, stages Stages) (string, error) {
	cc, err := c.Finder.Find(ctx, b.Platform, b.Toolchain, true)
	if err != nil {
		return "", err
	}
	o := c.open(b, stages)
	look := newLooker(c.Inputs, o.headers)
	var deps []string
	for _, src := range b.C.Sources {
		known, ok := o.state[src]
		if !ok || known.Command != o.command(c, cc, b, src, stages) {
			return "", nil
		}
		for dep := range known.Deps {
			sum, err := look.sum(ctx, c.absolute(dep))
			if err != nil {
				return "", nil
			}
			deps = append(deps, dep+" "+sum)
		}
		deps = append(deps, look.others(known))
	}
	for _, need := range b.Needs {
		sum, err := folderSum(ctx, c.Inputs, stages[need.Program])
		if err != nil {
			return "", err
		}
		deps = append(deps, need.Program+" "+sum)
	}
	slices.Sort(deps)
	key, err := json.Marshal([]any{"c/1", b.Target, b.Programs, cc.Identity, c.linkArgs(cc, b, stages, nil, ""), slices.Compact(deps), b.C.Include, b.C.Library})
	return string(key), err
}

// Build compiles and links into dir.
func (c *C) Build(ctx context.Context, b plan.Build, dir string, stages Stages) error {
	cc, err := c.Finder.Find(ctx, b.Platform, b.Toolchain, true)
	if err != nil {
		return err
	}
	o := c.open(b, stages)
	objects, err := c.objects(ctx, cc, b, o, stages)
	if err != nil {
		return err
	}
	out := filepath.Join(dir, filepath.FromSlash(b.Programs[0].File))
	if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
		return err
	}
	if b.C.Library {
		if err := c.archive(ctx, cc, b, objects, out); err != nil {
			return err
		}
		return c.headers(b, dir)
	}
	driver, err := driver(cc, b.C.CXX)
	if err != nil {
		return err
	}
	_, stderr, err := run(ctx, c.Root, c.env(cc, b), driver, c.linkArgs(cc, b, stages, objects, out)...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &CompileError{Platform: b.Platform, Programs: []string{b.Programs[0].Program}, What: "does not link", Output: c.plain(firstOf(stderr, err.Error()))}
	}
	return nil
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
	return "", &toolchain.MissingError{Platform: cc.Platform, What: fmt.Sprintf("there is a C compiler for %s, and none for C++", cc.Platform), Mend: mend}
}

func (c *C) env(cc *toolchain.Compiler, b plan.Build) []string {
	return slices.Concat(bareEnv("SOURCE_DATE_EPOCH="+strconv.FormatInt(c.Time.Unix(), 10)), cc.Env, b.Env)
}

// compileArgs are the arguments for one source; names and paths of this machine
// are mapped away, so that they leave no trace in the object.
func (c *C) compileArgs(cc *toolchain.Compiler, b plan.Build, src string, stages Stages) []string {
	args := slices.Clone(cc.Flags)
	if !slices.ContainsFunc(slices.Concat(cc.Flags, b.C.Flags), func(f string) bool { return strings.HasPrefix(f, "-O") }) {
		args = append(args, "-O2")
	}
	args = append(args, "-ffile-prefix-map="+c.Root+"=.")
	if cc.Folder != "" {
		args = append(args, "-ffile-prefix-map="+cc.Folder+"=/toolchain")
	}
	args = append(args, "-frandom-seed="+src)
	for _, d := range b.C.Define {
		args = append(args, "-D"+d)
	}
	for _, dir := range b.C.Include {
		args = append(args, "-I"+dir)
	}
	for _, dir := range stageFolders(b, stages, "include") {
		args = append(args, "-I"+c.relative(dir))
	}
	return append(args, b.C.Flags...)
}

// linkArgs are the arguments for linking.
func (c *C) linkArgs(cc *toolchain.Compiler, b plan.Build, stages Stages, objects []string, out string) []string {
	args := slices.Clone(cc.Flags)
	args = append(args, "-o", out)
	args = append(args, objects...)
	if b.C.Static {
		args = append(args, "-static")
	}
	if !b.C.Keep {
		args = append(args, "-s")
	}
	if b.Platform.OS == "windows" {
		args = append(args, "-Wl,--no-insert-timestamp")
	}
	for _, dir := range stageFolders(b, stages, "lib") {
		args = append(args, "-L"+c.relative(dir))
	}
	args = append(args, cc.LinkFlags...)
	args = append(args, b.C.LinkFlags...)
	// Libraries that were made here come before those that they may need.
	for _, lib := range slices.Backward(b.C.Libraries) {
		args = append(args, "-l"+lib)
	}
	return args
}

// stageFolders finds a folder's usual places in the stages of what is needed.
func stageFolders(b plan.Build, stages Stages, name string) []string {
	var out []string
	for _, need := range b.Needs {
		for _, prefix := range []string{"", "usr", "usr/local"} {
			dir := filepath.Join(stages[need.Program], prefix, name)
			if info, err := os.Stat(dir); err == nil && info.IsDir() {
				out = append(out, dir)
			}
		}
	}
	return out
}

// archive makes a static library without times and owners.
func (c *C) archive(ctx context.Context, cc *toolchain.Compiler, b plan.Build, objects []string, out string) error {
	ar := cc.Tools["ar"]
	if ar == "" {
		return &toolchain.MissingError{Platform: b.Platform, What: "there is no ar for " + b.Target, Mend: "install the binutils of its compiler, or name it in tools"}
	}
	if err := os.Remove(out); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	_, stderr, err := run(ctx, c.Root, c.env(cc, b), ar, append([]string{"rcsD", out}, objects...)...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &CompileError{Platform: b.Platform, Programs: []string{b.Programs[0].Program}, What: "is not put together", Output: firstOf(stderr, err.Error())}
	}
	return nil
}

// headers puts a library's include folders into its stage.
func (c *C) headers(b plan.Build, dir string) error {
	for _, include := range b.C.Include {
		from := filepath.Join(c.Root, filepath.FromSlash(include))
		if err := os.CopyFS(filepath.Join(dir, "include"), os.DirFS(from)); err != nil && !errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("copy the headers of %s: %w", include, err)
		}
	}
	return nil
}

func (c *C) relative(path string) string {
	if rel, err := filepath.Rel(c.Root, path); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return path
}

func (c *C) absolute(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(c.Root, path)
}

// plain takes the project's path out of what a tool said.
func (c *C) plain(text string) string {
	return strings.ReplaceAll(text, c.Root+string(filepath.Separator), "")
}

// objects compiles every source whose object is not up to date, and gives all
// objects in the order of the sources.
func (c *C) objects(ctx context.Context, cc *toolchain.Compiler, b plan.Build, o *objectFolder, stages Stages) ([]string, error) {
	look := newLooker(c.Inputs, o.headers)
	var out []string
	var stale []string
	for _, src := range b.C.Sources {
		out = append(out, o.object(src))
		if !o.upToDate(ctx, c, look, src, o.command(c, cc, b, src, stages)) {
			stale = append(stale, src)
		}
	}
	var mu sync.Mutex
	var faults, warnings []string
	var failed error
	var group sync.WaitGroup
	for _, src := range stale {
		select {
		case <-ctx.Done():
		case c.compile <- struct{}{}:
		}
		mu.Lock()
		stop := failed != nil || len(faults) >= 5
		mu.Unlock()
		if ctx.Err() != nil || stop {
			if ctx.Err() == nil {
				<-c.compile
			}
			break
		}
		group.Go(func() {
			defer func() { <-c.compile }()
			began := time.Now()
			said, deps, err := c.one(ctx, cc, b, o, src, stages)
			mu.Lock()
			defer mu.Unlock()
			var refused *CompileError
			switch {
			case errors.As(err, &refused):
				faults = append(faults, refused.Output)
			case err != nil:
				failed = err
			default:
				o.fresh(src, o.command(c, cc, b, src, stages), deps, began)
				if said != "" {
					warnings = append(warnings, said)
				}
			}
		})
	}
	group.Wait()
	// Also of a run that ends early: what it compiled need not be compiled again.
	if err := o.settle(context.WithoutCancel(ctx), c, look, b.C.Sources); err != nil {
		return nil, err
	}
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case failed != nil:
		return nil, failed
	case len(faults) > 0:
		slices.Sort(faults)
		return nil, &CompileError{Platform: b.Platform, Programs: []string{b.Programs[0].Program}, Output: c.plain(strings.Join(faults, "\n"))}
	}
	if len(warnings) > 0 && c.Events != nil {
		slices.Sort(warnings)
		c.Events.Event(progress.Note{Text: fmt.Sprintf("%s for %s: %s", b.Programs[0].Program, b.Target, lastLines(c.plain(strings.Join(warnings, "\n")), 20))})
	}
	return out, nil
}

// one compiles one source. It gives what the compiler warned of, and the files
// that it read.
func (c *C) one(ctx context.Context, cc *toolchain.Compiler, b plan.Build, o *objectFolder, src string, stages Stages) (said string, deps []string, err error) {
	object := o.object(src)
	if err := os.MkdirAll(filepath.Dir(object), 0o755); err != nil {
		return "", nil, err
	}
	driver, err := driver(cc, plan.CPlusPlus(src))
	if err != nil {
		return "", nil, err
	}
	list := strings.TrimSuffix(object, ".o") + ".d"
	args := append(c.compileArgs(cc, b, src, stages), "-MD", "-MF", list, "-c", "-o", object, src)
	_, stderr, err := run(ctx, c.Root, c.env(cc, b), driver, args...)
	if err != nil {
		if ctx.Err() != nil {
			return "", nil, ctx.Err()
		}
		return "", nil, &CompileError{Platform: b.Platform, Output: firstOf(stderr, err.Error())}
	}
	data, err := os.ReadFile(list)
	if err != nil {
		return "", nil, fmt.Errorf("the compiler %s wrote no list of what it read: %w", driver, err)
	}
	return strings.TrimSpace(stderr), readDepfile(string(data)), nil
}
