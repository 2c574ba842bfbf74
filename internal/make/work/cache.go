package work

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
	"piedmont/internal/make/store"
)

// cached has a large content compressed once, by whoever is first, for all that
// share an algorithm: also for what is packed later, or again.
func (e *Env) cached(c compress.Content) compress.Content {
	if compress.Standalone(c.Size) && c.SHA256 != "" {
		bare := c
		c.Cached = func(ctx context.Context, algorithm string) (*compress.Fragment, error) {
			return e.compressed(ctx, bare, algorithm)
		}
	}
	return c
}

func (e *Env) compressed(ctx context.Context, c compress.Content, algorithm string) (*compress.Fragment, error) {
	// Another version of the packer may compress otherwise.
	name := strings.Join([]string{c.SHA256, algorithm, e.Effort, strings.ReplaceAll(archive.Version, "/", "")}, "-")
	file := filepath.Join(e.Dir, "store", store.CompressedDir, name)
	made, err, _ := e.compressing.Do(file, func() (any, error) {
		if f := known(file, c.Size); f != nil {
			return f, nil
		}
		return e.compress(ctx, c, algorithm, file)
	})
	if err != nil {
		return nil, err
	}
	return made.(*compress.Fragment), nil
}

func (e *Env) compress(ctx context.Context, c compress.Content, algorithm, file string) (*compress.Fragment, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, err
	}
	tmp, err := os.CreateTemp(filepath.Dir(file), ".new-*")
	if err != nil {
		return nil, err
	}
	defer func() { _ = tmp.Close(); _ = os.Remove(tmp.Name()) }()
	r, err := c.Open()
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	f, err := compress.Make(ctx, tmp, io.LimitReader(r, c.Size+1), algorithm,
		compress.Options{Jobs: e.Jobs, Effort: e.Effort, OldDigests: e.Packages})
	if err == nil {
		err = tmp.Sync()
	}
	if err == nil {
		err = os.Rename(tmp.Name(), file)
	}
	if err != nil {
		return nil, fmt.Errorf("compress: %w", err)
	}
	f.Path = file
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	data, err := json.Marshal(record{f, info.ModTime().UnixNano()})
	if err != nil {
		return nil, err
	}
	return &f, fileio.Write(file+".json", data, 0o644)
}

// record is what stands beside compressed bytes. Another time than the stamp
// means that somebody wrote into them.
type record struct {
	compress.Fragment
	Stamp int64 `json:"stamp"`
}

// known reads the record of compressed bytes, or gives nil. It is written after
// them, so that bytes with a record are whole.
func known(file string, plain int64) *compress.Fragment {
	var r record
	data, err := os.ReadFile(file + ".json")
	if err != nil || json.Unmarshal(data, &r) != nil {
		return nil
	}
	r.Path = file
	info, err := os.Stat(file)
	if err != nil || info.Size() != r.Size || info.ModTime().UnixNano() != r.Stamp || r.Plain != plain {
		return nil
	}
	_ = os.Chtimes(file+".json", time.Time{}, time.Now()) // in use: Prune keeps it
	return &r.Fragment
}
