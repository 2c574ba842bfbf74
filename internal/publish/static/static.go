// Package static is a destination that is a static site on any store of files: the
// releases, a page for each, a page of the project, a feed and an index. Any web
// server can show it, and any tool can copy it.
package static

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"piedmont/internal/base/fault"
	"piedmont/internal/publish"
	"piedmont/internal/publish/layout"
	"piedmont/internal/publish/remote"
	"piedmont/internal/release"
	"piedmont/internal/site"
)

// Destination is the site. Its store and what it is called are the kind's.
type Destination struct {
	FS      remote.FS
	Where   func(version string) string // a release, for people
	Name    string                      // the whole, for people
	Address string                      // under which a web server shows it, or ""
	Present site.Presenter
}

// Begin takes the store's lock and opens the draft. A second publisher waits here
// and then finds the release done.
func (s *Destination) Begin(ctx context.Context, o *publish.Outbox) (publish.Draft, error) {
	unlock := func() error { return nil }
	if l, ok := s.FS.(remote.Locker); ok {
		var err error
		if unlock, err = l.Lock(ctx); err != nil {
			return nil, err
		}
	}
	on := layout.On(s.FS)
	d, err := on.Begin(ctx, o.Encoded)
	if err == nil {
		return &draft{s, on, d, unlock}, nil
	}
	_ = unlock()
	var conflict *layout.ConflictError
	if errors.As(err, &conflict) {
		return nil, publish.Conflict(s.Name, conflict.Version, conflict.Differences)
	}
	return nil, err
}

type draft struct {
	of     *Destination
	on     *layout.Layout
	d      *layout.Draft
	unlock func() error
}

// Close frees the store.
func (d *draft) Close() error { return d.unlock() }

// State asks what is there.
func (d *draft) State(ctx context.Context) (publish.State, error) {
	s := publish.State{Public: d.d.Public, Files: map[string]release.Receipt{}}
	list, err := d.d.State(ctx)
	for _, r := range list {
		s.Files[r.Name] = r
	}
	return s, err
}

// Put sends one file.
func (d *draft) Put(ctx context.Context, f release.Artifact, offset int64, r io.Reader) (release.Receipt, error) {
	got, err := d.d.Put(ctx, f.Name, offset, r)
	var mismatch *layout.MismatchError
	if errors.As(err, &mismatch) {
		return got, fault.New(fmt.Sprintf("%s in the outbox is not what the manifest says", f.Name),
			"Run \"piedmont make\" again")
	}
	return got, err
}

// Publish makes the release visible and draws the pages anew. The pages follow the
// release: they never name what is not there.
func (d *draft) Publish(ctx context.Context) (publish.Published, error) {
	rel, err := d.d.PublishWith(ctx, time.Now(), func(rel release.Release) (map[string][]byte, error) {
		all, err := d.on.Releases(ctx)
		if err != nil {
			return nil, err
		}
		page, err := d.site(append([]release.Release{rel}, all...)).Release(rel)
		return map[string][]byte{"index.html": page}, err
	})
	if err != nil {
		return publish.Published{}, err
	}
	if err := d.draw(ctx); err != nil {
		return publish.Published{}, fmt.Errorf("draw the pages: %w", err)
	}
	return publish.Published{Where: d.of.Where(rel.Manifest.Version), Manifest: rel.Record.Manifest}, nil
}

func (d *draft) site(list []release.Release) site.Site {
	x := site.Site{Releases: list, Base: d.of.Address, Present: d.of.Present}
	if x.Base != "" {
		x.Base = strings.TrimSuffix(x.Base, "/") + "/"
	}
	return x
}

// maxPage bounds a page that is compared with what is drawn, in bytes.
const maxPage = 64 << 20

// draw writes every page that a new release changes, each in one step where the
// store can.
func (d *draft) draw(ctx context.Context) error {
	list, err := d.on.Releases(ctx)
	if err != nil {
		return err
	}
	x := d.site(list)
	type page struct {
		path string
		draw func() ([]byte, error)
	}
	// What others name comes first.
	pages := []page{{"feed.atom", x.Feed}, {"index.json", x.JSON}, {"index.html", x.Project}}
	for _, r := range list {
		pages = append(pages, page{r.Manifest.Version + "/index.html", func() ([]byte, error) { return x.Release(r) }})
	}
	for _, p := range pages {
		data, err := p.draw()
		if err != nil {
			return err
		}
		if have, err := remote.Read(ctx, d.of.FS, p.path, maxPage); err == nil && string(have) == string(data) {
			continue
		}
		if err := remote.Write(ctx, d.of.FS, p.path, data); err != nil {
			return err
		}
	}
	latest, _ := release.Latest(list)
	return d.latest(ctx, latest.Manifest.Version)
}

// latest has "latest" lead to a version: by a link, or where there are none by a
// small page.
func (d *draft) latest(ctx context.Context, version string) error {
	if p, ok := d.of.FS.(remote.Pointer); ok {
		if err := p.Point(ctx, "latest", version); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	if err := remote.MakeFolder(ctx, d.of.FS, "latest"); err != nil {
		return err
	}
	return remote.Write(ctx, d.of.FS, "latest/index.html", site.Forward("../"+version+"/"))
}

// Public gives the version when it is public.
func (s *Destination) Public(ctx context.Context, version string) string {
	if _, err := layout.On(s.FS).Release(ctx, version); err != nil {
		return ""
	}
	return version
}
