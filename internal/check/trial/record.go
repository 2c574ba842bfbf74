package trial

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/base/fileio"
	"piedmont/internal/release"
)

// Name is the file in the outbox that keeps the results. It is no part of the
// release: what could be tried depends on the machine.
const Name = release.TrialsName

// Format is the form of that file.
const Format = "piedmont-trials/1"

// Record is the file with the results.
type Record struct {
	Format  string   `json:"format"`
	Project string   `json:"project"`
	Version string   `json:"version"`
	Trials  []Result `json:"trials"`
}

// Save writes the results beside the files. Results of an earlier run for other
// trials of the same files stay.
func Save(dir string, m *release.Manifest, results []Result) error {
	rec := Record{Format: Format, Project: m.Project.Name, Version: m.Version, Trials: slices.Clone(results)}
	old, err := Load(dir)
	if err != nil {
		old = Record{} // a damaged record is replaced
	}
	for _, r := range old.Trials {
		f, ok := m.File(r.File)
		again := slices.ContainsFunc(results, func(n Result) bool { return n.Trial == r.Trial && n.File == r.File })
		if ok && f.SHA256 == r.SHA256 && !again {
			rec.Trials = append(rec.Trials, r)
		}
	}
	slices.SortFunc(rec.Trials, func(a, b Result) int {
		if n := strings.Compare(a.Trial, b.Trial); n != 0 {
			return n
		}
		return strings.Compare(a.File, b.File)
	})
	data, err := json.MarshalIndent(rec, "", "  ")
	if err != nil {
		return err
	}
	return fileio.Write(filepath.Join(dir, Name), append(data, '\n'), 0o644)
}

// Load reads the results; without a file there are none.
func Load(dir string) (Record, error) {
	var rec Record
	data, err := os.ReadFile(filepath.Join(dir, Name))
	if errors.Is(err, fs.ErrNotExist) {
		return rec, nil
	}
	if err != nil {
		return rec, err
	}
	if err := json.Unmarshal(data, &rec); err != nil || rec.Format != Format {
		return rec, fmt.Errorf("%s is damaged: run \"piedmont try\" again", filepath.Join(dir, Name))
	}
	return rec, nil
}

// Outstanding lists, as sentences, the required trials that did not pass on
// exactly these files.
func Outstanding(dir string, m *release.Manifest, trials []Trial) ([]string, error) {
	if !slices.ContainsFunc(trials, func(t Trial) bool { return t.Required }) {
		return nil, nil
	}
	rec, err := Load(dir)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, t := range trials {
		if !t.Required {
			continue
		}
		f, _ := m.File(t.File)
		i := slices.IndexFunc(rec.Trials, func(r Result) bool {
			return r.Trial == t.Name && r.File == t.File && r.SHA256 == f.SHA256 && r.Asked == Asked(t)
		})
		what := fmt.Sprintf("trial %q of %s ", t.Name, t.File)
		switch {
		case i < 0:
			out = append(out, what+"was not run on these bytes")
		case rec.Trials[i].State != Passed:
			out = append(out, what+rec.Trials[i].State+": "+rec.Trials[i].Why)
		}
	}
	return out, nil
}

// Bad says whether a result is a failure: it failed, or was required and not tried.
func (r Result) Bad() bool { return r.State == Failed || r.Required && r.State != Passed }
