// Package verify holds the files of a release against its manifest and its
// checksums: in a folder, or at an address.
package verify

import (
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/progress"

	"piedmont/internal/release"
)

// States of a file.
const (
	OK      = "ok"
	Missing = "missing"
	Differs = "differs"
	Surplus = "surplus"
)

// Report is what was found.
type Report struct {
	Where    string `json:"where"`
	Project  string `json:"project"`
	Version  string `json:"version"`
	Manifest string `json:"manifest_sha256"`
	Files    []File `json:"files"`
	OK       bool   `json:"ok"`
}

// File is what was found of one file.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	State  string `json:"state"`
	Detail string `json:"detail,omitempty"`
}

// source is where the files are.
type source interface {
	// open gives a file's content; fs.ErrNotExist when there is none.
	open(ctx context.Context, name string) (io.ReadCloser, error)
	// list names all files that are there, or nil when that cannot be known.
	list() ([]string, error)
}

// Options say how to verify.
type Options struct {
	Jobs   int
	Events progress.Sink
}

// Folder verifies the release in a folder, or beside a manifest.
func Folder(ctx context.Context, path string, o Options) (*Report, error) {
	if info, err := os.Stat(path); err != nil {
		return nil, err
	} else if !info.IsDir() {
		if filepath.Base(path) != release.Name {
			return nil, fmt.Errorf("%s is neither a folder nor a %s", path, release.Name)
		}
		path = filepath.Dir(path)
	}
	r, err := run(ctx, folder(path), path, o)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no %s in %s: name the folder of a release, such as outbox/1.4.0",
			release.Name, path)
	}
	return r, err
}

type folder string

func (d folder) open(_ context.Context, name string) (io.ReadCloser, error) {
	// Names come from a checked manifest: none leaves the folder. A link could,
	// so links are not followed.
	path := filepath.Join(string(d), name)
	info, err := os.Lstat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a regular file", name)
	}
	return os.Open(path)
}

func (d folder) list() ([]string, error) {
	entries, err := os.ReadDir(string(d))
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names, err
}

func run(ctx context.Context, s source, where string, o Options) (*Report, error) {
	in, err := s.open(ctx, release.Name)
	if err != nil {
		return nil, err
	}
	m, encoded, err := release.Read(in)
	_ = in.Close()
	if err != nil {
		return nil, &BadManifest{err}
	}
	r := &Report{Where: where, Project: m.Project.Name, Version: m.Version, Manifest: release.Digest(encoded),
		Files: make([]File, len(m.Files))}
	o.Events.Event(progress.Began{What: "verify", Steps: len(m.Files)})
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, o.Jobs))
	for i, f := range m.Files {
		g.Go(func() error {
			o.Events.Event(progress.Started{ID: f.Name, Title: "verify " + f.Name, Total: f.Size})
			one, err := check(gctx, s, f, o.Events)
			r.Files[i] = one
			o.Events.Event(progress.Finished{ID: f.Name, Title: "verify " + f.Name, Size: f.Size})
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	sums, err := checkSums(ctx, s, m, encoded)
	if err != nil {
		return nil, err
	}
	r.Files = append(r.Files, File{Name: release.Name, Size: int64(len(encoded)), State: OK}, sums)
	surplus, err := surplus(s, m)
	if err != nil {
		return nil, err
	}
	r.Files = append(r.Files, surplus...)
	r.OK = !slices.ContainsFunc(r.Files, func(f File) bool { return f.State != OK })
	return r, nil
}

// BadManifest means that there is a manifest and it cannot be believed.
type BadManifest struct{ Err error }

func (e *BadManifest) Error() string { return e.Err.Error() }
func (e *BadManifest) Unwrap() error { return e.Err }

// ExitStatus is that of what does not match.
func (*BadManifest) ExitStatus() fault.Status { return fault.Mismatch }

// check reads one file to its end, or to where it is longer than it should be.
func check(ctx context.Context, s source, f release.Artifact, events progress.Sink) (File, error) {
	out := File{Name: f.Name, Size: f.Size, State: OK}
	in, err := s.open(ctx, f.Name)
	if errors.Is(err, fs.ErrNotExist) {
		out.State = Missing
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer func() { _ = in.Close() }()
	a, b := sha256.New(), sha512.New()
	var n int64
	buf := make([]byte, 256<<10)
	for {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		k, err := in.Read(buf)
		n += int64(k)
		a.Write(buf[:k])
		b.Write(buf[:k])
		events.Event(progress.Moved{ID: f.Name, Done: n})
		if err == io.EOF || n > f.Size {
			break
		}
		if err != nil {
			return out, fmt.Errorf("read %s: %w", f.Name, err)
		}
	}
	switch {
	case n > f.Size:
		out.State, out.Detail = Differs, fmt.Sprintf("it is longer than the %d bytes of the manifest", f.Size)
	case n < f.Size:
		out.State, out.Detail = Differs, fmt.Sprintf("it has %d bytes, the manifest says %d", n, f.Size)
	case hex.EncodeToString(a.Sum(nil)) != f.SHA256:
		out.State, out.Detail = Differs, "its SHA-256 is "+hex.EncodeToString(a.Sum(nil))
	case hex.EncodeToString(b.Sum(nil)) != f.SHA512:
		out.State, out.Detail = Differs, "its SHA-512 is not that of the manifest, though its SHA-256 is"
	}
	return out, nil
}

// maxSums bounds the checksum file that is read.
const maxSums = 4 << 20

// checkSums holds SHA256SUMS against the manifest.
func checkSums(ctx context.Context, s source, m *release.Manifest, encoded []byte) (File, error) {
	out := File{Name: release.SumsName, State: OK}
	in, err := s.open(ctx, release.SumsName)
	if errors.Is(err, fs.ErrNotExist) {
		out.State = Missing
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer func() { _ = in.Close() }()
	data, err := io.ReadAll(io.LimitReader(in, maxSums))
	if err != nil {
		return out, fmt.Errorf("read %s: %w", release.SumsName, err)
	}
	out.Size = int64(len(data))
	have, err := release.ParseSums(data)
	if err != nil {
		out.State, out.Detail = Differs, err.Error()
		return out, nil
	}
	want, err := release.ParseSums(m.Sums(encoded))
	if err != nil {
		return out, err
	}
	var wrong []string
	for name, sum := range want {
		switch have[name] {
		case sum:
		case "":
			wrong = append(wrong, "does not list "+name)
		default:
			wrong = append(wrong, "has another digest for "+name)
		}
	}
	for name := range have {
		if want[name] == "" {
			wrong = append(wrong, fmt.Sprintf("lists %q, which the manifest does not", name))
		}
	}
	if len(wrong) > 0 {
		slices.Sort(wrong)
		out.State, out.Detail = Differs, "it "+strings.Join(wrong, ", ")
	}
	return out, nil
}

// surplus are files that belong to no release; what a static site adds does.
func surplus(s source, m *release.Manifest) ([]File, error) {
	names, err := s.list()
	if err != nil {
		return nil, err
	}
	var out []File
	for _, name := range names {
		_, listed := m.File(name)
		if listed || slices.Contains([]string{release.Name, release.SumsName, release.TrialsName,
			release.RecordName, "index.html"}, name) {
			continue
		}
		out = append(out, File{Name: name, State: Surplus, Detail: "the manifest does not list it"})
	}
	return out, nil
}
