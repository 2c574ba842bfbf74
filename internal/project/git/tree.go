package git

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
)

// TreeFile is one file of a commit.
type TreeFile struct {
	Path   string // slash-separated, relative to the top of the repository
	Mode   string // as git writes it: 100644, 100755 or 120000
	Object string // the blob's id
	Size   int64
	repo   Repo // the repository that has the blob: this one or a submodule
}

// Link says whether the file is a symbolic link, its content being the target.
func (f TreeFile) Link() bool { return f.Mode == "120000" }

// Executable says whether git keeps the executable bit.
func (f TreeFile) Executable() bool { return f.Mode == "100755" }

// Tree lists the files of a commit in the order of their paths, submodules
// included, without what the commit's own attributes mark as export-ignore.
// Contents are the committed bytes: no line ending or filter of this machine
// touches them.
func (r Repo) Tree(ctx context.Context, commit string) ([]TreeFile, error) {
	top, err := r.git(ctx, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, err
	}
	r.Dir = strings.TrimRight(top, "\r\n")
	return r.tree(ctx, commit, "")
}

func (r Repo) tree(ctx context.Context, commit, prefix string) ([]TreeFile, error) {
	out, err := r.git(ctx, "ls-tree", "-r", "-z", "--long", "--full-tree", commit)
	if err != nil {
		return nil, err
	}
	type module struct{ path, commit string }
	var files []TreeFile
	var modules []module
	for _, line := range strings.Split(out, "\x00") {
		if line == "" {
			continue
		}
		meta, name, _ := strings.Cut(line, "\t")
		f := strings.Fields(meta) // mode type object size
		if len(f) != 4 {
			return nil, fmt.Errorf("git ls-tree answered %q", line)
		}
		if f[1] == "commit" {
			modules = append(modules, module{name, f[2]})
			continue
		}
		size, err := strconv.ParseInt(f[3], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("git ls-tree answered %q", line)
		}
		files = append(files, TreeFile{Path: name, Mode: f[0], Object: f[2], Size: size, repo: r})
	}
	paths := make([]string, 0, len(files)+len(modules))
	for _, f := range files {
		paths = append(paths, f.Path)
	}
	for _, m := range modules {
		paths = append(paths, m.path)
	}
	ignored, err := r.exportIgnored(ctx, commit, paths)
	if err != nil {
		return nil, err
	}
	kept := files[:0]
	for _, f := range files {
		if !ignored(f.Path) {
			f.Path = prefix + f.Path
			kept = append(kept, f)
		}
	}
	for _, m := range modules {
		if ignored(m.path) {
			continue
		}
		sub := r
		sub.Dir = filepath.Join(r.Dir, filepath.FromSlash(m.path))
		if _, err := os.Stat(filepath.Join(sub.Dir, ".git")); err != nil {
			return nil, fmt.Errorf("submodule %s is not checked out: run \"git submodule update --init "+
				"--recursive\"", prefix+m.path)
		}
		below, err := sub.tree(ctx, m.commit, prefix+m.path+"/")
		if err != nil {
			return nil, fmt.Errorf("submodule %s: %w", prefix+m.path, err)
		}
		kept = append(kept, below...)
	}
	return kept, nil
}

// exportIgnored asks for the export-ignore attribute of paths and of all their
// folders, as the commit's .gitattributes files give it. Only an index can be
// asked about a commit that is not checked out, so a temporary one is made.
func (r Repo) exportIgnored(ctx context.Context, commit string, paths []string) (func(string) bool, error) {
	none := func(string) bool { return false }
	if !hasAttributes(paths) {
		return none, nil
	}
	tmp, err := os.MkdirTemp("", "piedmont-index-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	env := []string{"GIT_ATTR_NOSYSTEM=1", "GIT_INDEX_FILE=" + filepath.Join(tmp, "index")}
	if _, err := r.run(ctx, call{env: env, args: []string{"read-tree", commit}}); err != nil {
		return nil, err
	}
	var ask bytes.Buffer
	seen := map[string]bool{}
	for _, p := range paths {
		fmt.Fprintf(&ask, "%s\x00", p)
		for dir := path.Dir(p); dir != "." && !seen[dir]; dir = path.Dir(dir) {
			seen[dir] = true
			// The slash at the end tells git that a pattern for folders applies.
			fmt.Fprintf(&ask, "%s/\x00", dir)
		}
	}
	out, err := r.run(ctx, call{input: ask.Bytes(), env: env,
		args: []string{"-c", "core.attributesFile=" + os.DevNull, "check-attr", "--cached", "-z", "--stdin",
			"export-ignore"}})
	if err != nil {
		return nil, err
	}
	marked := map[string]bool{}
	fields := strings.Split(out, "\x00")
	for i := 0; i+2 < len(fields); i += 3 {
		if fields[i+2] == "set" {
			marked[strings.TrimSuffix(fields[i], "/")] = true
		}
	}
	return func(p string) bool {
		for ; p != "."; p = path.Dir(p) {
			if marked[p] {
				return true
			}
		}
		return false
	}, nil
}

func hasAttributes(paths []string) bool {
	for _, p := range paths {
		if path.Base(p) == ".gitattributes" {
			return true
		}
	}
	return false
}

// Blobs reads the contents of files one after another from a git process that
// stays open for each repository, so that memory does not grow with them.
type Blobs struct {
	ctx  context.Context
	open map[string]*batch
}

type batch struct {
	in   io.WriteCloser
	out  *bufio.Reader
	stop func() error
}

// Blobs starts no process yet; Close ends those that Open started.
func (r Repo) Blobs(ctx context.Context) *Blobs {
	return &Blobs{ctx: ctx, open: map[string]*batch{}}
}

// Open gives the content of one file; it must be read to its end before the
// next is opened.
func (b *Blobs) Open(f TreeFile) (io.Reader, error) {
	p := b.open[f.repo.Dir]
	if p == nil {
		cmd := f.repo.command(b.ctx, "cat-file", "--batch")
		in, err := cmd.StdinPipe()
		if err != nil {
			return nil, err
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			return nil, err
		}
		if err := cmd.Start(); err != nil {
			return nil, fmt.Errorf("start git cat-file: %w", err)
		}
		p = &batch{in: in, out: bufio.NewReaderSize(out, 64<<10), stop: cmd.Wait}
		b.open[f.repo.Dir] = p
	}
	if _, err := fmt.Fprintln(p.in, f.Object); err != nil {
		return nil, fmt.Errorf("ask git for %s: %w", f.Path, err)
	}
	head, err := p.out.ReadString('\n')
	if err != nil {
		return nil, fmt.Errorf("read %s from git: %w", f.Path, err)
	}
	if want := fmt.Sprintf("%s blob %d\n", f.Object, f.Size); head != want {
		return nil, fmt.Errorf("read %s from git: it answered %q", f.Path, strings.TrimSpace(head))
	}
	return &blobReader{r: p.out, left: f.Size}, nil
}

// Close ends the git processes.
func (b *Blobs) Close() {
	for _, p := range b.open {
		_ = p.in.Close()
		_, _ = io.Copy(io.Discard, p.out)
		_ = p.stop()
	}
}

// blobReader reads one blob and the newline that git writes after it.
type blobReader struct {
	r    *bufio.Reader
	left int64
	done bool
}

func (b *blobReader) Read(p []byte) (int, error) {
	if b.left == 0 {
		if !b.done {
			b.done = true
			if _, err := b.r.Discard(1); err != nil {
				return 0, err
			}
		}
		return 0, io.EOF
	}
	if int64(len(p)) > b.left {
		p = p[:b.left]
	}
	n, err := b.r.Read(p)
	b.left -= int64(n)
	if err == io.EOF && b.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}
