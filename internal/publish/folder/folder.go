// Package folder publishes into a folder of this machine, which becomes a static
// site.
package folder

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"piedmont/internal/base/fault"
	"piedmont/internal/config"
	"piedmont/internal/publish"
	"piedmont/internal/publish/layout"
	"piedmont/internal/publish/remote/local"
	"piedmont/internal/publish/static"
	"piedmont/internal/site"
)

//go:embed keys.md
var docs string

// Kind is the kind of destination.
type Kind struct{ Present site.Presenter }

// Keys are those of a folder.
type Keys struct {
	Path string `toml:"path" need:"yes"`
	Site string `toml:"site"`
}

// Name is the kind's.
func (Kind) Name() string { return "folder" }

// Keys makes new ones.
func (Kind) Keys() any { return &Keys{} }

// Docs describe the keys.
func (Kind) Docs() []string { return []string{docs} }

// Check holds the address under which the folder is shown against what is one.
func (Kind) Check(f *config.Faults, k *publish.Keys, where string) {
	if own := k.Own.(*Keys); own.Site != "" {
		f.Address(where+".site", own.Site)
	}
}

// Where is the path as it is written.
func (Kind) Where(k *publish.Keys) string { return k.Own.(*Keys).Path }

// Open makes the destination.
func (x Kind) Open(_ context.Context, env publish.Env, k *publish.Keys) (publish.Destination, error) {
	own := k.Own.(*Keys)
	path := own.Path
	if !filepath.IsAbs(path) {
		path = filepath.Join(env.Root, path)
	}
	return New(path, own.Site, x.Present), nil
}

// Folder is the destination.
type Folder struct {
	static.Destination
	path string
}

// New makes the destination of a path; address is that under which a web server
// shows it, or "".
func New(path, address string, present site.Presenter) *Folder {
	return &Folder{static.Destination{FS: local.FS{Dir: path, Work: layout.DraftsDir}, Name: path,
		Address: address, Present: present,
		Where: func(version string) string { return filepath.Join(path, version) }}, path}
}

// Inspect sees whether the folder can be written, and what it shows.
func (f *Folder) Inspect(ctx context.Context, _, version string) (publish.Inspection, error) {
	dir := f.path
	info, err := os.Stat(dir)
	for errors.Is(err, fs.ErrNotExist) && filepath.Dir(dir) != dir {
		dir = filepath.Dir(dir) // the first publishing makes the folders that lack
		info, err = os.Stat(dir)
	}
	if err != nil {
		return publish.Inspection{}, err
	}
	if !info.IsDir() {
		return publish.Inspection{}, fault.New(dir+" is not a folder", "remove it, or change \"path\"")
	}
	if !writable(dir) {
		return publish.Inspection{}, fault.New(dir+" cannot be written",
			fmt.Sprintf("chmod u+w %s, or change \"path\"", dir))
	}
	return publish.Inspection{Says: "the folder can be written", Public: f.Public(ctx, version)}, nil
}
