package lang

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sync/singleflight"

	"piedmont/internal/make/engine"
	"piedmont/internal/make/inputs"
	"piedmont/internal/make/store"
	"piedmont/internal/make/work"
	"piedmont/internal/plan"
)

// Stages are the folders with what a build needs, by program.
type Stages map[string]string

// RunValues are the placeholders that are known only when a build runs.
type RunValues struct {
	Stage, Work, Triplet, Jobs string
	Stages                     Stages
}

// Fill fills what the plan has left in texts.
func (v RunValues) Fill(texts []string) []string {
	pairs := []string{"{stage}", v.Stage, "{work}", v.Work, "{triplet}", v.Triplet, "{jobs}", v.Jobs}
	for name, dir := range v.Stages {
		pairs = append(pairs, "{stage."+name+"}", dir)
	}
	r := strings.NewReplacer(pairs...)
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = r.Replace(t)
	}
	return out
}

// Sums are digests over the stages that a build needs.
func (s Stages) Sums(ctx context.Context, in *inputs.Inputs, b *plan.Build) ([]string, error) {
	var out []string
	for _, need := range b.Needs {
		dir := s[need.Program]
		h := sha256.New()
		if err := in.Folder(ctx, h, dir, dir); err != nil {
			return nil, fmt.Errorf("read %s: %w", dir, err)
		}
		out = append(out, need.Program+" "+hex.EncodeToString(h.Sum(nil)))
	}
	return out, nil
}

// stageFolders are folders with what builds made, for those that need it.
type stageFolders struct {
	dir    string
	store  *store.Store
	laying singleflight.Group // by folder
}

// lay puts what a build needs into folders, and gives them by program. A folder
// that is right already stays as it is.
func (s *stageFolders) lay(b *plan.Build, in engine.Inputs) (Stages, error) {
	out := Stages{}
	for _, need := range b.Needs {
		sum := sha256.Sum256([]byte(need.Build + "\x00" + need.Program))
		dir := filepath.Join(s.dir, hex.EncodeToString(sum[:8]))
		_, err, _ := s.laying.Do(dir, func() (any, error) { return nil, s.fill(dir, in[work.Examined(need.Build)]) })
		if err != nil {
			return nil, fmt.Errorf("lay out what %s made: %w", need.Program, err)
		}
		out[need.Program] = dir
	}
	return out, nil
}

func (s *stageFolders) fill(dir string, objects []store.Object) error {
	want, err := json.Marshal(objects)
	if err != nil {
		return err
	}
	record := dir + ".json"
	if have, err := os.ReadFile(record); err == nil && string(have) == string(want) {
		if _, err := os.Stat(dir); err == nil {
			return nil
		}
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.Remove(record); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, o := range objects {
		made, err := work.MadeOf(o)
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(o.Name))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if made.Link != "" {
			err = os.Symlink(made.Link, to)
		} else {
			err = CopyFile(s.store.Path(o), to, made.Mode())
		}
		if err != nil {
			return err
		}
	}
	return os.WriteFile(record, want, 0o644)
}

// CopyFile copies a file to a new one with a mode, whatever the umask.
func CopyFile(from, to string, mode fs.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Chmod(mode)
	}
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	return err
}
