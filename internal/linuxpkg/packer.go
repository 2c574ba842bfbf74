package linuxpkg

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/format/archive"
	"piedmont/internal/lang"
	"piedmont/internal/plan"
	"piedmont/internal/release"
)

// packer collects the entries of one package.
type packer struct {
	*plan.Context
	k      *Keys
	format Format
	holds  lang.Holding
	on     platform.Platform
	about  *Package
	list   []release.Entry
	reads  []string
}

// at is an entry for a path, of root's.
func at(path string, mode fs.FileMode) release.Entry {
	var e release.Entry
	e.Path, e.Mode = path, mode
	return e
}

func (b *packer) add(e release.Entry) {
	e.Path = strings.Trim(path.Clean(e.Path), "/")
	if e.Owner == "" {
		e.Owner = "root"
	}
	if e.Group == "" {
		e.Group = "root"
	}
	b.list = append(b.list, e)
}

// entries are those of the package, sorted.
func (b *packer) entries() []release.Entry {
	for _, name := range b.k.Programs {
		build, out, ok := b.holds.Output(b.Context, name, b.on)
		if !ok {
			return nil
		}
		e := at(path.Join(b.k.Bin, path.Base(out.File)), 0o755)
		e.From = release.Origin{Build: build.ID, Path: out.File}
		b.add(e)
	}
	for _, t := range b.k.Trees {
		if build, _, ok := b.Plan.Build(t.Program, b.on); ok {
			to := t.To
			if to == "" && t.From != "" {
				to = t.From
			}
			e := at("/"+to, 0)
			e.From = release.Origin{Build: build.ID, Path: path.Join(".", t.From), Tree: true}
			b.add(e)
		}
	}
	for _, f := range b.k.Files {
		b.take(taken{Placed: f})
	}
	for _, f := range b.k.Folders {
		e := at(f.To, fs.ModeDir|plan.ParseMode(f.Mode, 0o755))
		e.Owner, e.Group = f.Owner, f.Group
		b.add(e)
	}
	for _, to := range slices.Sorted(maps.Keys(b.k.Links)) {
		e := at(to, fs.ModeSymlink|0o777)
		e.Link = b.k.Links[to]
		b.add(e)
	}
	b.services()
	b.documents()
	b.extras()
	b.scripts()
	return b.sorted()
}

// taken are files of the project with their place.
type taken struct {
	Placed
	mark string
}

// take takes files of the project.
func (b *packer) take(t taken) {
	if t.To == "" || t.From == "" {
		return
	}
	for _, e := range b.Files(b.holds.Owner, config.Rule{From: t.From, To: strings.TrimPrefix(t.To, "/")}) {
		if t.Mode != "" && !e.IsLink() {
			e.Mode = plan.ParseMode(t.Mode, 0o644)
		}
		e.Owner, e.Group, e.Keep, e.Mark = t.Owner, t.Group, t.Keep, t.mark
		b.add(e)
	}
}

// plain takes a file with the mode 0644.
func (b *packer) plain(from, to string) {
	b.take(taken{Placed: Placed{From: from, To: to, Mode: "0644"}})
}

// read reads a file of the project; one that is not there is a fault.
func (b *packer) read(name string) string {
	data, err := fs.ReadFile(b.Facts.Files, path.Clean(name))
	if err != nil {
		b.FailOnce("package %q: there is no file %s; change it in [package.%s]", b.k.Name, name, b.k.Name)
		return ""
	}
	if clean := path.Clean(name); !slices.Contains(b.reads, clean) {
		b.reads = append(b.reads, clean)
	}
	return string(data)
}

func (b *packer) services() {
	systemd := b.format.Layout().Systemd
	for _, unit := range b.k.Service {
		text := b.read(unit)
		if text == "" {
			continue
		}
		if !strings.Contains("\n"+text, "\n[Install]") {
			b.FailOnce("package %q: the unit %s has no section [Install], so nothing could enable it; add "+
				"one such as\n  [Install]\n  WantedBy=multi-user.target", b.k.Name, unit)
		}
		if systemd {
			b.plain(unit, "/usr/lib/systemd/system/")
			b.about.Scripts.Units = append(b.about.Scripts.Units, path.Base(unit))
		}
	}
	for _, script := range b.k.OpenRC {
		name := strings.TrimSuffix(strings.TrimSuffix(path.Base(script), ".openrc"), ".initd")
		if b.read(script) == "" || systemd {
			continue
		}
		b.take(taken{Placed: Placed{From: script, To: "/etc/init.d/" + name, Mode: "0755"}})
		b.about.Scripts.Services = append(b.about.Scripts.Services, name)
	}
	for _, u := range b.k.Users {
		b.about.Scripts.Users = append(b.about.Scripts.Users, User(u))
	}
	if len(b.k.Users) > 0 && systemd {
		b.add(Written("/usr/lib/sysusers.d/"+b.about.Name+".conf", sysusers(b.k.Users)))
	}
	if b.k.TmpFiles != "" && b.read(b.k.TmpFiles) != "" && systemd {
		b.plain(b.k.TmpFiles, "/usr/lib/tmpfiles.d/"+b.about.Name+".conf")
		b.about.Scripts.TmpFiles = append(b.about.Scripts.TmpFiles, b.about.Name+".conf")
	}
}

// sysusers describes the accounts for systems that make theirs from such
// files. Source: sysusers.d(5).
func sysusers(users []Account) string {
	var s strings.Builder
	for _, u := range users {
		home := u.Home
		if home == "" {
			home = "-"
		}
		fmt.Fprintf(&s, "g %s -\nu %s -:%s %q %s\n", u.Group, u.Name, u.Group, u.Comment, home)
	}
	return s.String()
}

// documents go where each distribution wants them.
func (b *packer) documents() {
	for _, page := range b.k.Man {
		text := b.read(page)
		name := strings.TrimSuffix(path.Base(page), ".gz")
		section := strings.TrimPrefix(path.Ext(name), ".")
		if text == "" || section == "" || section[0] < '1' || section[0] > '9' {
			b.FailOnce("package %q: %s does not end in a section of the manual, such as .1", b.k.Name, page)
			continue
		}
		to := "/usr/share/man/man" + section[:1] + "/" + name + ".gz"
		if strings.HasSuffix(page, ".gz") {
			b.take(taken{Placed{From: page, To: to, Mode: "0644"}, release.MarkDoc})
			continue
		}
		e := Written(to, text)
		e.From.Gzip, e.Mark = true, release.MarkDoc
		b.add(e)
	}
	for _, file := range b.k.Docs {
		b.take(taken{Placed{From: file, To: "/usr/share/doc/" + b.about.Name + "/", Mode: "0644"}, release.MarkDoc})
	}
	if folder := b.format.Layout().Licenses; folder != "" {
		for _, file := range b.k.Licenses {
			b.take(taken{Placed{From: file, To: folder + b.about.Name + "/", Mode: "0644"}, release.MarkLicense})
		}
	}
	rights := Rights{Holder: b.k.Copyright, Texts: func() []string {
		var out []string
		for _, file := range b.k.Licenses {
			out = append(out, b.read(file))
		}
		return out
	}}
	for _, e := range b.format.Documents(b.about, rights) {
		b.add(e)
	}
}

func (b *packer) extras() {
	folders := map[string]string{"bash": "/usr/share/bash-completion/completions/",
		"fish": "/usr/share/fish/vendor_completions.d/", "zsh": b.format.Layout().Zsh}
	for _, shell := range slices.Sorted(maps.Keys(b.k.Completions)) {
		name := path.Base(b.k.Completions[shell])
		for _, ending := range []string{".fish", ".zsh", ".bash"} {
			name = strings.TrimSuffix(name, ending)
		}
		name = strings.TrimPrefix(name, "_")
		if shell == "fish" {
			name += ".fish"
		}
		b.plain(b.k.Completions[shell], folders[shell]+name)
	}
	for _, file := range b.k.Desktop {
		b.plain(file, "/usr/share/applications/")
	}
	for _, size := range slices.Sorted(maps.Keys(b.k.Icons)) {
		b.plain(b.k.Icons[size], "/usr/share/icons/hicolor/"+size+"/apps/")
	}
}

func (b *packer) scripts() {
	s := &b.about.Scripts
	for moment, into := range map[string]*string{BeforeInstall: &s.BeforeInstall, AfterInstall: &s.AfterInstall,
		BeforeRemove: &s.BeforeRemove, AfterRemove: &s.AfterRemove} {
		file := b.k.Scripts[moment]
		if file == "" {
			continue
		}
		if *into = b.read(file); *into != "" {
			if err := CheckScript(*into); err != nil {
				b.FailOnce("package %q: the script %s: %v", b.k.Name, file, err)
			}
		}
	}
}

// sorted puts the entries in order and refuses two at one place.
func (b *packer) sorted() []release.Entry {
	slices.SortFunc(b.list, func(x, y release.Entry) int { return strings.Compare(x.Path, y.Path) })
	for i, e := range b.list {
		if i > 0 && !e.From.Tree && e.Path == b.list[i-1].Path {
			b.FailOnce("package %q: two files would be /%s; take one of them out or place it elsewhere with "+
				"\"to\"", b.k.Name, e.Path)
		}
	}
	if b.format.Layout().OwnersByScript {
		b.owned()
	}
	if b.list == nil {
		return []release.Entry{}
	}
	return b.list
}

// owned has a script give owners to what belongs to a service's account.
func (b *packer) owned() {
	byScript := b.format.Layout().FoldersByScript
	b.list = slices.DeleteFunc(b.list, func(e release.Entry) bool {
		if e.Owner == "root" && e.Group == "root" {
			return false
		}
		b.about.Scripts.Owned = append(b.about.Scripts.Owned,
			Owned{Path: "/" + e.Path, Mode: archive.Octal(e.Mode), Owner: e.Owner, Group: e.Group, Dir: e.Mode.IsDir()})
		return e.Mode.IsDir() && byScript
	})
}
