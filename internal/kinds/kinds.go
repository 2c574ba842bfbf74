// Package kinds is the one list of every kind of thing that Piedmont knows:
// languages, archives, packages, destinations, checks. Each is a package of its
// own; here they are put together for one run.
package kinds

import (
	"context"
	"slices"

	"piedmont/internal/archive/bundle"
	"piedmont/internal/archive/source"
	"piedmont/internal/base/environ"
	"piedmont/internal/base/progress"
	"piedmont/internal/check"
	"piedmont/internal/check/preflight"
	"piedmont/internal/check/trial"
	"piedmont/internal/config"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/format/archive/zipfile"
	"piedmont/internal/lang"
	"piedmont/internal/lang/cc"
	"piedmont/internal/lang/command"
	"piedmont/internal/lang/golang"
	"piedmont/internal/lang/prebuilt"
	"piedmont/internal/lang/toolchain"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/alpm"
	"piedmont/internal/linuxpkg/apk"
	"piedmont/internal/linuxpkg/deb"
	"piedmont/internal/linuxpkg/rpm"
	"piedmont/internal/make/outbox"
	"piedmont/internal/notes"
	"piedmont/internal/plan"
	"piedmont/internal/project"
	"piedmont/internal/project/changelog"
	"piedmont/internal/project/version"
	"piedmont/internal/publish"
	"piedmont/internal/publish/folder"
	"piedmont/internal/publish/pageclient"
	"piedmont/internal/release"
	"piedmont/internal/site"
)

// archives are the formats that archives can have.
func archives() []archive.Format {
	return []archive.Format{tarball.Format("gz"), tarball.Format("xz"), tarball.Format("zst"), zipfile.Format{}}
}

// packages are the formats of distribution packages.
func packages() []linuxpkg.Format {
	return []linuxpkg.Format{deb.Format{}, rpm.Format{}, apk.Format{}, alpm.Format{}}
}

// languages are those that programs can be in.
func languages(g golang.Language) []lang.Language {
	return []lang.Language{g, cc.Language{}, command.Language{}, prebuilt.Language{}}
}

// destinations are the kinds of places to publish to.
func destinations(present site.Presenter) []publish.Kind {
	return []publish.Kind{pageclient.Kind{}, folder.Kind{Present: present}}
}

// producers plan and make what tables of the description ask for, in the order in
// which a plan and the reference tell of them.
func (k *Kinds) producers() []plan.Part {
	return []plan.Part{k.Programs, bundle.Part{Formats: archives()}, linuxpkg.Part{Formats: packages()},
		source.Part{Formats: archives()}, trial.Part{}}
}

// Parts are all that plan. Where the files go is known first; what a release says
// of itself comes last.
func (k *Kinds) Parts() []plan.Part {
	return slices.Concat([]plan.Part{k.Destinations}, k.producers(), []plan.Part{notes.Part{}, outbox.Record{}})
}

// Checks are made before a build, in the order in which they are told.
func (k *Kinds) Checks() []check.Check {
	return []check.Check{
		preflight.Clean, preflight.Committed, preflight.History, preflight.Tag, preflight.Pushed,
		preflight.Mirrors, preflight.Newer,
		preflight.Names, preflight.Tracked, preflight.SecretsInFiles,
		k.golang.PreflightCheck(), cc.Compilers{Finder: k.finder, Env: k.o.Env}.PreflightCheck(),
		trial.Part{}.PreflightCheck(), preflight.Space, k.Destinations.PreflightCheck(),
	}
}

// Tables are those of the description, in the order of its reference.
func (k *Kinds) Tables() []config.Table {
	tables := []config.Table{project.Table(), version.Table(), changelog.Table(), config.PlatformsTable(),
		toolchain.Table()}
	for _, p := range k.producers() {
		tables = append(tables, p.Table())
	}
	return append(tables, plan.PackingTable(), k.Destinations.Table())
}

// Options are what the kinds of one run share.
type Options struct {
	Ctx context.Context // of what is asked while a description is read
	Dir string          // of the project
	Env environ.Env
	// Lenient takes a missing Go toolchain for no fault of the description.
	Lenient bool
	Go      *golang.Tools // asked once; nil makes them anew
	// GoPlatforms are those that Go compiles for; nil asks the toolchain.
	GoPlatforms []string
	Events      progress.Sink
}

// Kinds are the kinds of one run. Nothing of them is shared with another.
type Kinds struct {
	Programs     *lang.Part
	Destinations publish.Part
	Finder       *toolchain.Finder // of the description in use; see Use

	o      Options
	golang golang.Language
}

// New puts them together.
func New(o Options) *Kinds {
	if o.Go == nil {
		o.Go = &golang.Tools{Env: o.Env}
	}
	k := &Kinds{o: o, golang: golang.Language{Tools: o.Go, Dir: o.Dir, Lenient: o.Lenient, Known: o.GoPlatforms}}
	k.Programs = &lang.Part{Ctx: o.Ctx, Languages: languages(k.golang), Finder: k.finder}
	k.Destinations = publish.Part{Kinds: destinations(k.Present), Env: o.Env}
	k.Use(nil)
	return k
}

// Use takes the toolchains that a description declares; without one there are those
// of the system.
func (k *Kinds) Use(d *config.Document) {
	k.Finder = &toolchain.Finder{Root: k.o.Dir, Env: k.o.Env, Readers: k.Readers(), Events: k.o.Events}
	if d != nil {
		k.Finder.Declared = toolchain.Of(d)
	}
}

func (k *Kinds) finder() *toolchain.Finder { return k.Finder }

// Makers are the parts that make files.
func (k *Kinds) Makers() []outbox.Maker {
	var out []outbox.Maker
	for _, p := range k.Parts() {
		if m, ok := p.(outbox.Maker); ok {
			out = append(out, m)
		}
	}
	return out
}

// Present places a file on a page as those who make such files want it.
func (k *Kinds) Present(f release.Artifact, at site.Placement) site.Placement {
	for _, p := range k.Parts() {
		if x, ok := p.(interface {
			Present(release.Artifact, site.Placement) site.Placement
		}); ok {
			at = x.Present(f, at)
		}
	}
	return at
}

// Readers read archives of every format. What none of them knows by its beginning
// may be a tar, with whatever compression.
func (k *Kinds) Readers() []archive.Reader {
	var out []archive.Reader
	for _, f := range archives() {
		if !f.Sniff(nil) {
			out = append(out, f)
		}
	}
	return append(out, tarball.Reader{})
}

// PackageOf knows the format of a package by how it begins; nil is none.
func PackageOf(head []byte) linuxpkg.Format {
	for _, f := range packages() {
		if f.Sniff(head) {
			return f
		}
	}
	return nil
}

// PackageIn knows the packages that are tars by the files that they have.
func PackageIn(has func(path string) bool) linuxpkg.Format {
	for _, f := range packages() {
		if f.Recognize(has) {
			return f
		}
	}
	return nil
}
