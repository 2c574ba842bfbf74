// Package work is what the steps of a run work with: the store, the project's
// files by their digests, and the compressed bytes that many of them share.
package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/singleflight"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/progress"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
	"piedmont/internal/make/inputs"
	"piedmont/internal/make/store"
	"piedmont/internal/project/git"
)

// Env is what the steps of one run work with.
type Env struct {
	Root    string // the project's folder
	Dir     string // .piedmont in it, where work is kept between runs
	Jobs    int
	Effort  string // of compression
	Version string // of the release
	// Packages says that the release has distribution packages.
	Packages bool
	Time     time.Time // of the commit: that of every file that is packed
	Store    *store.Store
	Inputs   *inputs.Inputs
	Repo     git.Repo
	Env      environ.Env
	Events   progress.Sink

	compressing singleflight.Group // by file: content is compressed by one at a time
}

// Packing are the options of everything that is packed.
func (e *Env) Packing() archive.Options {
	return archive.Options{Time: e.Time, Options: compress.Options{Jobs: e.Jobs, Effort: e.Effort}}
}

// Put keeps a small file.
func (e *Env) Put(ctx context.Context, name string, content []byte) (store.Object, error) {
	return e.Create(ctx, name, func(w io.Writer) error {
		_, err := w.Write(content)
		return err
	})
}

// Create keeps what write writes.
func (e *Env) Create(ctx context.Context, name string, write func(io.Writer) error) (store.Object, error) {
	w, err := e.Store.Create(name)
	if err != nil {
		return store.Object{}, err
	}
	defer w.Abort()
	if err := write(w); err != nil {
		return store.Object{}, err
	}
	return w.Commit(ctx)
}

// Stored is the content of an object of the store.
func (e *Env) Stored(o store.Object) compress.Content {
	return e.cached(compress.Content{Size: o.Size, SHA256: o.SHA256,
		Open: func() (io.ReadCloser, error) { return os.Open(e.Store.Path(o)) }})
}

// File is the content of a file of the project, named as seen from its root.
func (e *Env) File(ctx context.Context, name string) (compress.Content, error) {
	path := filepath.Join(e.Root, filepath.FromSlash(name))
	sum, size, err := e.Inputs.File(ctx, path)
	if err != nil {
		return compress.Content{}, fmt.Errorf("read %s: %w", name, err)
	}
	return e.cached(compress.Content{Size: size, SHA256: sum, Open: openChecked(path, sum)}), nil
}

// Text is the content of a text, with its digest.
func Text(content []byte) compress.Content {
	sum := sha256.Sum256(content)
	c := compress.Text(string(content))
	c.SHA256 = hex.EncodeToString(sum[:])
	return c
}

// openChecked opens a file whose digest is known already. Another content is told
// at its end, so that nothing is packed, or cached as compressed, that is not what
// the manifest says.
func openChecked(path, sum string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		return &checked{f, sha256.New(), sum}, nil
	}
}

type checked struct {
	file   *os.File
	sha256 hash.Hash
	want   string
}

// Read reads on; an end with another digest is an error.
func (c *checked) Read(p []byte) (int, error) {
	n, err := c.file.Read(p)
	c.sha256.Write(p[:n])
	if err == io.EOF && hex.EncodeToString(c.sha256.Sum(nil)) != c.want {
		return n, NotItsDigest(c.file.Name())
	}
	return n, err
}

// Close closes the file.
func (c *checked) Close() error { return c.file.Close() }

// NotItsDigest is the error for a file with another content than its digest was
// taken of.
func NotItsDigest(path string) error {
	return fmt.Errorf("%s is not what it was when its digest was taken: if nothing changes it at this "+
		"moment, its time was set back; touch it and run this again", path)
}
