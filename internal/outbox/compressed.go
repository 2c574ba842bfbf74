package outbox

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"piedmont/internal/atomicfile"
	"piedmont/internal/pack"
	"piedmont/internal/store"
)

// content is where an entry's bytes come from. A large file is compressed once,
// by whoever is first, for all that share an algorithm: also for what is packed
// later, or again.
func (m *maker) content(e entry) pack.Source {
	s := pack.Source{Open: e.Open}
	if pack.Alone(e.Size) && e.SHA256 != "" {
		s.Compressed = func(algorithm string) (*pack.Compressed, error) { return m.compressed(e, algorithm) }
	}
	return s
}

func (m *maker) compressed(e entry, algorithm string) (*pack.Compressed, error) {
	effort := m.plan.Effort
	if effort == "" {
		effort = pack.Normal
	}
	// Another version of the packer may compress otherwise.
	name := strings.Join([]string{e.SHA256, algorithm, effort, strings.ReplaceAll(packVersion, "/", "")}, "-")
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
	// The writer that waits for this is stopped by its own context.
	c, err := pack.Compress(context.Background(), tmp, io.LimitReader(r, e.Size+1), algorithm, pack.Options{Jobs: m.o.Jobs, Effort: effort})
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
	return &c, atomicfile.Write(file+".json", data, 0o644)
}

// keptCompressed is the record of compressed bytes. Another time than the stamp
// means that somebody wrote into them.
type keptCompressed struct {
	pack.Compressed
	Stamp int64 `json:"stamp"`
}

// known reads the record of compressed bytes, or gives nil. It is written after
// them, so that bytes with a record are whole.
func known(file string, plain int64) *pack.Compressed {
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
