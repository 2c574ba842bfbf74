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
	"piedmont/internal/plan"
	"piedmont/internal/store"
)

// content is where an entry's bytes come from. A large file that goes into more
// than one file of the release is compressed once, by whoever is first.
func (m *maker) content(e entry) pack.Source {
	s := pack.Source{Open: e.Open}
	if pack.Alone(e.Size) && e.SHA256 != "" && e.shared {
		s.Deflated = func() (pack.Deflated, error) { return m.deflated(e) }
	}
	return s
}

// sharing counts in how many deflate streams of the release each origin goes.
func sharing(p *plan.Plan) map[string]int {
	uses := map[string]int{}
	for _, a := range p.Archives {
		if a.Format == "zip" || a.Format == "tar.gz" {
			for _, e := range a.Entries {
				uses[origin(e)]++
			}
		}
	}
	for _, g := range p.Packages {
		if g.Compression == "gz" {
			for _, e := range g.Entries {
				uses[origin(e.Entry)]++
			}
		}
	}
	return uses
}

// origin names where an entry comes from. A tree takes from all of a build.
func origin(e plan.Entry) string {
	if e.Build != "" {
		return "build " + e.Build
	}
	return "file " + e.From
}

func (m *maker) deflated(e entry) (pack.Deflated, error) {
	effort := m.plan.Effort
	if effort == "" {
		effort = pack.Normal
	}
	// Another version of the packer may compress otherwise.
	name := e.SHA256 + "-" + effort + "-" + strings.ReplaceAll(packVersion, "/", "")
	file := filepath.Join(m.o.Root, WorkDir, "store", store.DeflatedDir, name)
	defer m.squeezing.lock(file)()
	if d, ok := known(file, e.Size); ok {
		return d, nil
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return pack.Deflated{}, err
	}
	tmp, err := os.CreateTemp(filepath.Dir(file), ".new-*")
	if err != nil {
		return pack.Deflated{}, err
	}
	defer func() { _ = tmp.Close(); _ = os.Remove(tmp.Name()) }()
	r, err := e.Open()
	if err != nil {
		return pack.Deflated{}, err
	}
	defer func() { _ = r.Close() }()
	// The writer that waits for this is stopped by its own context.
	d, err := pack.Deflate(context.Background(), tmp, io.LimitReader(r, e.Size+1), pack.Options{Jobs: m.o.Jobs, Effort: effort})
	if err == nil {
		err = tmp.Sync()
	}
	if err == nil {
		err = os.Rename(tmp.Name(), file)
	}
	if err != nil {
		return d, fmt.Errorf("compress: %w", err)
	}
	d.Path = file
	info, err := os.Stat(file)
	if err != nil {
		return d, err
	}
	data, err := json.Marshal(keptDeflated{d, info.ModTime().UnixNano()})
	if err != nil {
		return d, err
	}
	return d, atomicfile.Write(file+".json", data, 0o644)
}

// keptDeflated is the record of compressed bytes. Another time than the stamp
// means that somebody wrote into them.
type keptDeflated struct {
	pack.Deflated
	Stamp int64 `json:"stamp"`
}

// known reads the record of compressed bytes. It is written after them, so that
// bytes with a record are whole.
func known(file string, plain int64) (pack.Deflated, bool) {
	var k keptDeflated
	data, err := os.ReadFile(file + ".json")
	if err != nil || json.Unmarshal(data, &k) != nil {
		return k.Deflated, false
	}
	k.Path = file
	info, err := os.Stat(file)
	if err != nil || info.Size() != k.Size || info.ModTime().UnixNano() != k.Stamp || k.Plain != plain {
		return k.Deflated, false
	}
	_ = os.Chtimes(file+".json", time.Time{}, time.Now()) // in use: Prune keeps it
	return k.Deflated, true
}
