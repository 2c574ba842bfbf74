package outbox

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/make/store"
)

// content is where an entry's bytes come from. A large file is compressed once,
// by whoever is first, for all that share an algorithm: also for what is packed
// later, or again.
func (m *maker) content(e entry) archive.Source {
	s := archive.Source{Open: e.Open}
	if archive.Alone(e.Size) && e.SHA256 != "" {
		s.Compressed = func(ctx context.Context, algorithm string) (*archive.Compressed, error) {
			return m.compressed(ctx, e, algorithm)
		}
	}
	return s
}

// fromProject opens a file of the project, whose digest is known already. Another
// content is told at its end, so that nothing is packed, or kept as compressed,
// that is not what the manifest says.
func fromProject(path, sum string) opener {
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
		return n, notItsDigest(c.file.Name())
	}
	return n, err
}

func notItsDigest(path string) error {
	return fmt.Errorf("%s is not what it was when its digest was taken: if nothing changes it at this moment, its time was set back; touch it and run this again", path)
}

// Close closes the file.
func (c *checked) Close() error { return c.file.Close() }

func (m *maker) compressed(ctx context.Context, e entry, algorithm string) (*archive.Compressed, error) {
	// Another version of the packer may compress otherwise.
	name := strings.Join([]string{e.SHA256, algorithm, m.plan.Effort, strings.ReplaceAll(packVersion, "/", "")}, "-")
	file := filepath.Join(m.o.Root, WorkDir, "store", store.CompressedDir, name)
	defer m.squeezing.lock(file)()
	if c := known(file, e.Size); c != nil {
		return c, nil
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, err
	}
	tmp, err := os.CreateTemp(filepath.Dir(file), ".new-*")
	if err != nil {
		return nil, err
	}
	defer func() { _ = tmp.Close(); _ = os.Remove(tmp.Name()) }()
	r, err := e.Open()
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	c, err := archive.Compress(ctx, tmp, io.LimitReader(r, e.Size+1), algorithm, archive.Options{Jobs: m.o.Jobs, Effort: m.plan.Effort})
	if err == nil {
		err = tmp.Sync()
	}
	if err == nil {
		err = os.Rename(tmp.Name(), file)
	}
	if err != nil {
		return nil, fmt.Errorf("compress: %w", err)
	}
	c.Path = file
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	data, err := json.Marshal(keptCompressed{c, info.ModTime().UnixNano()})
	if err != nil {
		return nil, err
	}
	return &c, fileio.Write(file+".json", data, 0o644)
}

// keptCompressed is the record of compressed bytes. Another time than the stamp
// means that somebody wrote into them.
type keptCompressed struct {
	archive.Compressed
	Stamp int64 `json:"stamp"`
}

// known reads the record of compressed bytes, or gives nil. It is written after
// them, so that bytes with a record are whole.
func known(file string, plain int64) *archive.Compressed {
	var k keptCompressed
	data, err := os.ReadFile(file + ".json")
	if err != nil || json.Unmarshal(data, &k) != nil {
		return nil
	}
	k.Path = file
	info, err := os.Stat(file)
	if err != nil || info.Size() != k.Size || info.ModTime().UnixNano() != k.Stamp || k.Plain != plain {
		return nil
	}
	_ = os.Chtimes(file+".json", time.Time{}, time.Now()) // in use: Prune keeps it
	return &k.Compressed
}
