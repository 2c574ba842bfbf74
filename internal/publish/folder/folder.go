// Package folder publishes into a folder, which is a static site by itself: any
// web server can show it, and any tool can copy it.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"piedmont/internal/base/fileio"
	"piedmont/internal/publish"
	"piedmont/internal/publish/layout"
	"piedmont/internal/release"
	"piedmont/internal/site"
)

// Folder is the destination. Site is the address under which a web server
// shows it, or "".
type Folder struct{ Path, Site string }

// Begin takes the folder's lock and opens the draft. A second publisher of the
// same folder waits here and then finds the release done.
func (f Folder) Begin(ctx context.Context, _ *release.Manifest, encoded []byte) (publish.Draft, error) {
	drafts := filepath.Join(f.Path, ".drafts")
	if err := os.MkdirAll(drafts, 0o755); err != nil {
		return nil, fmt.Errorf("the folder must be writable: %w", err)
	}
	l := flock.New(filepath.Join(drafts, "lock"))
	if _, err := l.TryLockContext(ctx, 50*time.Millisecond); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("lock the folder: %w", err)
	}
	d, err := layout.At(f.Path).Begin(encoded)
	if err != nil {
		_ = l.Unlock()
		var conflict *layout.ConflictError
		if errors.As(err, &conflict) {
			return nil, publish.Conflict(f.Path, conflict.Version, conflict.Differences)
		}
		return nil, err
	}
	return &draft{f, d, l}, nil
}

type draft struct {
	folder Folder
	d      *layout.Draft
	lock   *flock.Flock
}

func (d *draft) Close() error { return d.lock.Unlock() }

func (d *draft) State(context.Context) (publish.State, error) {
	s := publish.State{Public: d.d.Public, Files: map[string]publish.FileState{}}
	for _, f := range d.d.State() {
		one := publish.FileState{Received: f.Received, Complete: f.Complete}
		if f.Complete {
			one.SHA256 = f.SHA256 // a file gets its name there only when it matches
		}
		s.Files[f.Name] = one
	}
	return s, nil
}

func (d *draft) Put(ctx context.Context, f release.File, offset int64, r io.Reader) (string, error) {
	sum, err := d.d.Put(f.Name, offset, &untilDone{ctx, r})
	var mismatch *layout.MismatchError
	if errors.As(err, &mismatch) {
		return "", &publish.Refusal{Reason: fmt.Sprintf("%s in the outbox is not what the manifest says", f.Name), Mend: "Run \"piedmont make\" again"}
	}
	return sum, err
}

type untilDone struct {
	ctx context.Context
	r   io.Reader
}

func (u *untilDone) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}

// Publish renames the release into place and draws the pages anew. The pages
// follow the release: they never name what is not there.
func (d *draft) Publish(context.Context) (publish.Published, error) {
	s := layout.At(d.folder.Path)
	rel, err := d.d.PublishWith(time.Now(), func(rel layout.Release) (map[string][]byte, error) {
		all, err := s.Releases()
		if err != nil {
			return nil, err
		}
		page, err := d.site(append([]layout.Release{rel}, all...)).Release(rel)
		return map[string][]byte{"index.html": page}, err
	})
	if err != nil {
		return publish.Published{}, err
	}
	if err := d.draw(s); err != nil {
		return publish.Published{}, fmt.Errorf("draw the pages: %w", err)
	}
	return publish.Published{Where: filepath.Join(d.folder.Path, rel.Manifest.Version), Manifest: rel.Record.Manifest}, nil
}

func (d *draft) site(list []layout.Release) site.Site {
	x := site.Site{Releases: list, Base: d.folder.Site}
	if x.Base != "" {
		x.Base = strings.TrimSuffix(x.Base, "/") + "/"
	}
	return x
}

// draw writes every page that a new release changes, each in one step.
func (d *draft) draw(s *layout.Shelf) error {
	list, err := s.Releases()
	if err != nil {
		return err
	}
	x := d.site(list)
	pages := []struct {
		path string
		draw func() ([]byte, error)
	}{{"index.html", x.Project}, {"feed.atom", x.Feed}, {"index.json", x.JSON}}
	for _, r := range list {
		pages = append(pages, struct {
			path string
			draw func() ([]byte, error)
		}{filepath.Join(r.Manifest.Version, "index.html"), func() ([]byte, error) { return x.Release(r) }})
	}
	for _, p := range pages {
		data, err := p.draw()
		if err != nil {
			return err
		}
		path := filepath.Join(s.Dir(), p.path)
		if have, err := os.ReadFile(path); err == nil && string(have) == string(data) {
			continue
		}
		if err := fileio.Write(path, data, 0o644); err != nil {
			return err
		}
	}
	latest, _ := layout.Latest(list)
	return link(s.Dir(), latest.Manifest.Version)
}

// link points "latest" at a version, by rename. Where the system has no
// symbolic links, a small page leads there.
func link(dir, version string) error {
	place := filepath.Join(dir, "latest")
	if have, err := os.Readlink(place); err == nil && have == version {
		return nil
	}
	tmp := filepath.Join(dir, ".drafts", "latest")
	_ = os.Remove(tmp)
	if os.Symlink(version, tmp) == nil {
		return os.Rename(tmp, place)
	}
	if err := os.MkdirAll(place, 0o755); err != nil {
		return err
	}
	return fileio.Write(filepath.Join(place, "index.html"), site.Forward("../"+version+"/"), 0o644)
}
