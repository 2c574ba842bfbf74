package git

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Head gives the commit of HEAD and the branch it is on, "" when detached.
func (r Repo) Head(ctx context.Context) (commit, branch string, err error) {
	out, err := r.git(ctx, "rev-parse", "HEAD")
	if err != nil {
		return "", "", err
	}
	name, _, err := r.asks(ctx, "symbolic-ref", "--quiet", "--short", "HEAD")
	return strings.TrimSpace(out), name, err
}

// HasRef says whether a full reference exists.
func (r Repo) HasRef(ctx context.Context, ref string) (bool, error) {
	_, has, err := r.asks(ctx, "rev-parse", "--verify", "--quiet", ref+"^{commit}")
	return has, err
}

// Tags names every tag that matches the glob.
func (r Repo) Tags(ctx context.Context, glob string) ([]string, error) {
	out, err := r.git(ctx, "tag", "--list", glob)
	return strings.Fields(out), err
}

// CommitFiles commits exactly these files, relative to r.Dir, as they are in the tree.
func (r Repo) CommitFiles(ctx context.Context, message string, files []string) error {
	if _, err := r.git(ctx, append([]string{"add", "--"}, files...)...); err != nil {
		return err
	}
	_, err := r.run(ctx, call{input: []byte(message),
		args: append([]string{"commit", "--quiet", "--file=-", "--"}, files...)})
	return err
}

// Tag makes an annotated tag on HEAD, signed when git is configured to sign
// tags or when sign asks for it.
func (r Repo) Tag(ctx context.Context, name, message string, sign bool) error {
	kind := "--annotate"
	if sign {
		kind = "--sign"
	} else if set, _, err := r.asks(ctx, "config", "--type=bool", "--get", "tag.gpgSign"); err != nil {
		return err
	} else if set == "true" {
		kind = "--sign"
	}
	_, err := r.run(ctx, call{input: []byte(message), args: []string{"tag", kind, "--file=-", name}})
	return err
}

// Undo puts HEAD's branch back to a commit and takes files out of the index as
// they were there; the work tree stays.
func (r Repo) Undo(ctx context.Context, commit, tag string, files []string) error {
	if has, err := r.HasRef(ctx, "refs/tags/"+tag); err != nil {
		return err
	} else if has && tag != "" {
		if _, err := r.git(ctx, "tag", "--delete", tag); err != nil {
			return err
		}
	}
	if _, err := r.git(ctx, "reset", "--quiet", "--soft", commit); err != nil {
		return err
	}
	_, err := r.git(ctx, append([]string{"reset", "--quiet", commit, "--"}, files...)...)
	return err
}

// CommitOnBranch makes a branch with one commit on top of HEAD, in which files
// have other contents. Neither the tree nor the index is touched.
func (r Repo) CommitOnBranch(ctx context.Context, branch, message string, files map[string][]byte) error {
	if has, err := r.HasRef(ctx, "refs/heads/"+branch); err != nil {
		return err
	} else if has {
		return fmt.Errorf("there is a branch %q already: delete it with \"git branch -D %s\", or name another",
			branch, branch)
	}
	if _, err := r.git(ctx, "check-ref-format", "--branch", branch); err != nil {
		return fmt.Errorf("%q cannot be the name of a branch", branch)
	}
	tmp, err := os.MkdirTemp("", "piedmont-index-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	prefix, err := r.git(ctx, "rev-parse", "--show-prefix")
	if err != nil {
		return err
	}
	index := filepath.Join(tmp, "index")
	if _, err := r.withIndex(ctx, index, nil, "read-tree", "HEAD"); err != nil {
		return err
	}
	for name, content := range files {
		path := strings.TrimSpace(prefix) + name
		blob, err := r.withIndex(ctx, index, content, "hash-object", "-w", "--path="+path, "--stdin")
		if err != nil {
			return err
		}
		mode := "100644"
		if out, err := r.git(ctx, "ls-tree", "--full-tree", "HEAD", "--", path); err != nil {
			return err
		} else if strings.HasPrefix(out, "100755") {
			mode = "100755"
		}
		if _, err := r.withIndex(ctx, index, nil, "update-index", "--add", "--cacheinfo",
			mode+","+strings.TrimSpace(blob)+","+path); err != nil {
			return err
		}
	}
	tree, err := r.withIndex(ctx, index, nil, "write-tree")
	if err != nil {
		return err
	}
	commit, err := r.run(ctx,
		call{input: []byte(message), args: []string{"commit-tree", strings.TrimSpace(tree), "-p", "HEAD", "-F", "-"}})
	if err != nil {
		return err
	}
	_, err = r.git(ctx, "branch", branch, strings.TrimSpace(commit))
	return err
}

// withIndex runs a git command on an index of its own.
func (r Repo) withIndex(ctx context.Context, index string, input []byte, args ...string) (string, error) {
	if input == nil {
		input = []byte{}
	}
	return r.run(ctx, call{input: input, env: []string{"GIT_INDEX_FILE=" + index}, args: args})
}

// CommitOf gives the commit of a tag.
func (r Repo) CommitOf(ctx context.Context, tag string) (string, error) {
	out, err := r.git(ctx, "rev-parse", "--verify", "--quiet", "refs/tags/"+tag+"^{commit}")
	return strings.TrimSpace(out), err
}

// TagKind says what a tag is: plain, annotated or signed.
func (r Repo) TagKind(ctx context.Context, tag string) (string, error) {
	kind, err := r.git(ctx, "cat-file", "-t", "refs/tags/"+tag)
	if err != nil || strings.TrimSpace(kind) != "tag" {
		return "plain", err
	}
	text, err := r.git(ctx, "cat-file", "tag", "refs/tags/"+tag)
	if strings.Contains(text, "-----BEGIN PGP SIGNATURE-----") ||
		strings.Contains(text, "-----BEGIN SSH SIGNATURE-----") ||
		strings.Contains(text, "-----BEGIN SIGNED MESSAGE-----") {
		return "signed", err
	}
	return "annotated", err
}

// Tracked says which of these files, relative to r.Dir, git tracks.
func (r Repo) Tracked(ctx context.Context, files []string) (map[string]bool, error) {
	out := map[string]bool{}
	if len(files) == 0 {
		return out, nil
	}
	list, err := r.git(ctx, "ls-files", "-z")
	for _, name := range strings.Split(list, "\x00") {
		out[name] = true
	}
	return out, err
}

// Upstream names the branch that HEAD's branch follows, "" when there is none.
func (r Repo) Upstream(ctx context.Context) (string, error) {
	out, err := r.git(ctx, "for-each-ref", "--format=%(HEAD)%(upstream:short)", "refs/heads/")
	for _, line := range strings.Split(out, "\n") {
		if name, here := strings.CutPrefix(line, "*"); here {
			return strings.TrimSpace(name), err
		}
	}
	return "", err
}

// Contains says whether a branch has a commit.
func (r Repo) Contains(ctx context.Context, branch, commit string) (bool, error) {
	_, has, err := r.asks(ctx, "merge-base", "--is-ancestor", commit, branch)
	return has, err
}
