package cc

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"piedmont/internal/base/fileio"
	"piedmont/internal/lang"
	"piedmont/internal/make/inputs"
)

// objectFolder holds the objects of one program for one platform, and the
// record of what each was made from.
type objectFolder struct {
	dir     string
	state   map[string]object
	headers map[string][]string // files of the include folders, by their last name
}

// object is what is known of a compiled source.
type object struct {
	Command string            `json:"command"` // a digest over compiler and arguments
	Deps    map[string]string `json:"deps"`    // digests of all files that the compiler read
	Others  string            `json:"others"`  // files of the same names that it could have read
	Stamp   lang.Stamp        `json:"stamp"`
	began   time.Time         // when the compiler was started, until settle
}

func (j *job) open() *objectFolder {
	sum := sha256.Sum256([]byte(j.b.Target + "\x00" + j.b.Programs[0].Program))
	o := &objectFolder{dir: filepath.Join(j.Dir, "objects", hex.EncodeToString(sum[:8])),
		state: map[string]object{}, headers: map[string][]string{}}
	if data, err := os.ReadFile(o.record()); err == nil {
		_ = json.Unmarshal(data, &o.state) // a damaged record is an empty one
	}
	folders := j.stageFolders("include")
	for _, dir := range j.c.Include {
		folders = append(folders, filepath.Join(j.Root, filepath.FromSlash(dir)))
	}
	for _, dir := range folders {
		_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				o.headers[d.Name()] = append(o.headers[d.Name()], j.relative(path))
			}
			return nil
		})
	}
	return o
}

func (o *objectFolder) record() string { return filepath.Join(o.dir, "objects.json") }

func (o *objectFolder) object(src string) string {
	return filepath.Join(o.dir, filepath.FromSlash(src)+".o")
}

// command is a digest over what the compiler is told.
func (j *job) command(src string) string {
	text := fmt.Sprintf("%q", []any{j.cc.Identity, j.compileArgs(src), j.environ()})
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// upToDate says whether an object is what compiling would give again.
func (o *objectFolder) upToDate(ctx context.Context, j *job, look *looker, src string) bool {
	known, ok := o.state[src]
	if !ok || known.Command != j.command(src) || len(known.Deps) == 0 {
		return false
	}
	info, err := os.Stat(o.object(src))
	if err != nil || lang.StampOf(info) != known.Stamp {
		return false
	}
	for dep, want := range known.Deps {
		if sum, err := look.sum(ctx, j.absolute(dep)); err != nil || sum != want {
			return false
		}
	}
	return look.others(known) == known.Others
}

// fresh notes a new object; settle completes it.
func (o *objectFolder) fresh(src, command string, deps []string, began time.Time) {
	known := object{Command: command, Deps: map[string]string{}, began: began}
	for _, dep := range deps {
		known.Deps[dep] = ""
	}
	o.state[src] = known
}

// settle takes the digests of what new objects were made from, forgets objects
// of sources that are gone, and writes the record.
func (o *objectFolder) settle(ctx context.Context, j *job, look *looker) error {
	for src, known := range o.state {
		if !slices.Contains(j.c.Sources, src) {
			delete(o.state, src)
			_ = os.Remove(o.object(src))
			continue
		}
		if known.Stamp != (lang.Stamp{}) {
			continue
		}
		info, err := os.Stat(o.object(src))
		for dep := range known.Deps {
			if err == nil {
				known.Deps[dep], err = look.sum(ctx, j.absolute(dep))
			}
			if in, statErr := os.Stat(j.absolute(dep)); err == nil &&
				(statErr != nil || in.ModTime().After(known.began)) {
				err = errChanged // the compiler may have read what was there before
			}
		}
		if err != nil {
			delete(o.state, src) // it is compiled again next time
			continue
		}
		known.Stamp, known.Others = lang.StampOf(info), look.others(known)
		o.state[src] = known
	}
	if len(o.state) == 0 {
		return nil
	}
	data, err := json.Marshal(o.state)
	if err != nil {
		return err
	}
	if have, err := os.ReadFile(o.record()); err == nil && string(have) == string(data) {
		return nil
	}
	return fileio.Write(o.record(), data, 0o644)
}

var errChanged = errors.New("it changed while it was compiled")

// looker takes digests of files, each once.
type looker struct {
	inputs  *inputs.Inputs
	headers map[string][]string
	sums    map[string]string
}

func newLooker(in *inputs.Inputs, headers map[string][]string) *looker {
	return &looker{in, headers, map[string]string{}}
}

func (l *looker) sum(ctx context.Context, path string) (string, error) {
	if s, ok := l.sums[path]; ok {
		return s, nil
	}
	s, _, err := l.inputs.File(ctx, path)
	if err == nil {
		l.sums[path] = s
	}
	return s, err
}

// others names the headers of the project that have the same name as one that
// was read: a new one could be found before it.
func (l *looker) others(known object) string {
	var out []string
	for dep := range known.Deps {
		if list := l.headers[filepath.Base(dep)]; len(list) > 1 {
			out = append(out, list...)
		}
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), "\n")
}

// readDepfile gives the prerequisites of a rule as compilers write it for make:
// names between spaces, with spaces, "#" and "$" in names escaped.
func readDepfile(text string) []string {
	_, text, ok := strings.Cut(text, ": ")
	if !ok {
		return nil
	}
	var out []string
	var name strings.Builder
	end := func() {
		if name.Len() > 0 {
			out = append(out, name.String())
			name.Reset()
		}
	}
	for i := 0; i < len(text); i++ {
		c := text[i]
		next := byte(0)
		if i+1 < len(text) {
			next = text[i+1]
		}
		switch {
		case c == '\\' && (next == '\n' || next == '\r'):
			end()
			i++
		case c == '\\' && (next == ' ' || next == '#'), c == '$' && next == '$':
			name.WriteByte(next)
			i++
		case c == ' ' || c == '\n' || c == '\r' || c == '\t':
			end()
		default:
			name.WriteByte(c)
		}
	}
	end()
	return out
}
