package plan

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/linuxpkg"
)

// packer collects the entries of one package.
type packer struct {
	*planner
	c      *config.Package
	format string
	on     platform.Platform
	about  *linuxpkg.Package
	list   []Placed
	reads  []string
}

func (b *packer) add(e Entry, more Placed) {
	more.Entry = e
	more.Path = strings.Trim(path.Clean(more.Path), "/")
	if more.Owner == "" {
		more.Owner = "root"
	}
	if more.Group == "" {
		more.Group = "root"
	}
	more.Octal = fmt.Sprintf("%04o", unixMode(more.Mode))
	b.list = append(b.list, more)
}

// entries are those of the package, sorted.
func (b *packer) entries() []Placed {
	for _, name := range b.c.Programs {
		build, out, ok := b.buildOf(name, b.on)
		if !ok {
			return nil
		}
		if out.File == "" {
			b.failOnce("package %q: the program %s has no single file; say which with \"file\" in [program.%s]", b.c.Name, name, name)
			return nil
		}
		b.add(Entry{Path: path.Join(b.c.Bin, path.Base(out.File)), Mode: 0o755, Build: build.ID, Output: out.File}, Placed{})
	}
	for _, t := range b.c.Trees {
		if build, _, ok := b.buildOf(t.Program, b.on); ok {
			from, to := path.Join(".", t.From), t.To
			if to == "" && t.From != "" {
				to = t.From
			}
			b.add(Entry{Path: "/" + to, Tree: true, Build: build.ID, From: from}, Placed{})
		}
	}
	for _, f := range b.c.Files {
		b.take(f.From, f.To, f.Mode, Placed{Owner: f.Owner, Group: f.Group, Keep: f.Keep})
	}
	for _, f := range b.c.Folders {
		b.add(Entry{Path: f.To, Mode: fs.ModeDir | parseMode(f.Mode, 0o755)}, Placed{Owner: f.Owner, Group: f.Group, Dir: true})
	}
	for _, at := range slices.Sorted(maps.Keys(b.c.Links)) {
		b.add(Entry{Path: at, Mode: 0o777, Link: b.c.Links[at]}, Placed{})
	}
	b.services()
	b.documents()
	b.extras()
	b.scripts()
	return b.sorted()
}

// take takes files of the project.
func (b *packer) take(from, to, mode string, more Placed) {
	if to == "" || from == "" {
		return
	}
	for _, e := range b.rule(owner{"package", b.c.Name}, config.Rule{From: from, To: strings.TrimPrefix(to, "/")}) {
		if mode != "" {
			e.Mode = parseMode(mode, 0o644)
		}
		b.add(e, more)
	}
}

// parseMode reads octal digits with setuid, setgid and sticky.
func parseMode(text string, without fs.FileMode) fs.FileMode {
	n, err := strconv.ParseUint(text, 8, 12)
	if err != nil {
		return without
	}
	m := fs.FileMode(n & 0o777)
	for bit, flag := range map[uint64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if n&bit != 0 {
			m |= flag
		}
	}
	return m
}

func unixMode(m fs.FileMode) uint32 { return linuxpkg.File{Mode: m}.Unix() & 0o7777 }

func (b *packer) services() {
	for _, unit := range b.c.Service {
		text := b.read(unit)
		if text == "" {
			continue
		}
		if !strings.Contains("\n"+text, "\n[Install]") {
			b.failOnce("package %q: the unit %s has no section [Install], so nothing could enable it; add one such as\n  [Install]\n  WantedBy=multi-user.target", b.c.Name, unit)
		}
		if b.format == linuxpkg.APK {
			continue // Alpine has no systemd
		}
		b.take(unit, "/usr/lib/systemd/system/", "0644", Placed{})
		b.about.Scripts.Units = append(b.about.Scripts.Units, path.Base(unit))
	}
	for _, script := range b.c.OpenRC {
		name := strings.TrimSuffix(strings.TrimSuffix(path.Base(script), ".openrc"), ".initd")
		if b.read(script) == "" || b.format != linuxpkg.APK {
			continue
		}
		b.take(script, "/etc/init.d/"+name, "0755", Placed{})
		b.about.Scripts.Services = append(b.about.Scripts.Services, name)
	}
	for _, u := range b.c.Users {
		b.about.Scripts.Users = append(b.about.Scripts.Users, linuxpkg.User{Name: u.Name, Group: u.Group, Home: u.Home, Comment: u.Comment})
	}
	if len(b.c.Users) > 0 && b.format != linuxpkg.APK {
		b.add(Entry{Path: "/usr/lib/sysusers.d/" + b.about.Name + ".conf", Mode: 0o644}, Placed{Text: sysusers(b.c.Users)})
	}
	if b.c.TmpFiles != "" && b.read(b.c.TmpFiles) != "" && b.format != linuxpkg.APK {
		b.take(b.c.TmpFiles, "/usr/lib/tmpfiles.d/"+b.about.Name+".conf", "0644", Placed{})
		b.about.Scripts.TmpFiles = append(b.about.Scripts.TmpFiles, b.about.Name+".conf")
	}
}

// sysusers describes the accounts for systems that make theirs from such
// files. Source: sysusers.d(5).
func sysusers(users []config.Account) string {
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

// read reads a file of the project; one that is not there is a fault.
func (b *packer) read(name string) string {
	data, err := fs.ReadFile(b.f.Files, path.Clean(name))
	if err != nil {
		b.failOnce("package %q: there is no file %s; change it in [package.%s]", b.c.Name, name, b.c.Name)
		return ""
	}
	if clean := path.Clean(name); !slices.Contains(b.reads, clean) {
		b.reads = append(b.reads, clean)
	}
	return string(data)
}

func (b *packer) extras() {
	folders := map[string]string{"bash": "/usr/share/bash-completion/completions/", "fish": "/usr/share/fish/vendor_completions.d/", "zsh": "/usr/share/zsh/site-functions/_"}
	if b.format == linuxpkg.Deb {
		folders["zsh"] = "/usr/share/zsh/vendor-completions/_"
	}
	for _, shell := range slices.Sorted(maps.Keys(b.c.Completions)) {
		name := strings.TrimPrefix(strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(path.Base(b.c.Completions[shell]), ".bash"), ".zsh"), ".fish"), "_")
		if shell == "fish" {
			name += ".fish"
		}
		b.take(b.c.Completions[shell], folders[shell]+name, "0644", Placed{})
	}
	for _, file := range b.c.Desktop {
		b.take(file, "/usr/share/applications/", "0644", Placed{})
	}
	for _, size := range slices.Sorted(maps.Keys(b.c.Icons)) {
		b.take(b.c.Icons[size], "/usr/share/icons/hicolor/"+size+"/apps/", "0644", Placed{})
	}
}

func (b *packer) scripts() {
	for moment, into := range map[string]*string{"before-install": &b.about.Scripts.BeforeInstall, "after-install": &b.about.Scripts.AfterInstall, "before-remove": &b.about.Scripts.BeforeRemove, "after-remove": &b.about.Scripts.AfterRemove} {
		file := b.c.Scripts[moment]
		if file == "" {
			continue
		}
		if *into = b.read(file); *into != "" {
			if err := linuxpkg.CheckScript(*into); err != nil {
				b.failOnce("package %q: the script %s: %v", b.c.Name, file, err)
			}
		}
	}
}

// sorted puts the entries in order and refuses two at one place.
func (b *packer) sorted() []Placed {
	slices.SortFunc(b.list, func(x, y Placed) int { return strings.Compare(x.Path, y.Path) })
	for i, e := range b.list {
		if i > 0 && !e.Tree && e.Path == b.list[i-1].Path {
			b.failOnce("package %q: two files would be /%s; take one of them out or place it elsewhere with \"to\"", b.c.Name, e.Path)
		}
	}
	if b.format == linuxpkg.Arch || b.format == linuxpkg.Deb {
		b.owned()
	}
	if b.list == nil {
		return []Placed{}
	}
	return b.list
}

// owned has a script give owners to what belongs to a service's account: pacman
// takes owners by number, and those differ from system to system.
func (b *packer) owned() {
	b.list = slices.DeleteFunc(b.list, func(e Placed) bool {
		if e.Owner == "root" && e.Group == "root" {
			return false
		}
		b.about.Scripts.Owned = append(b.about.Scripts.Owned, linuxpkg.Owned{Path: "/" + e.Path, Mode: e.Octal, Owner: e.Owner, Group: e.Group, Dir: e.Dir})
		return e.Dir && b.format == linuxpkg.Arch
	})
}
