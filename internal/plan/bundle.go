package plan

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"piedmont/internal/base/platform"
	"piedmont/internal/config"
)

// ownFolders of the project hold none of its files.
var ownFolders = []string{".git", ".piedmont", "outbox"}

// bundles plans every bundle for each of its platforms and formats.
func (p *planner) bundles() {
	for _, b := range p.c.Bundles {
		files := p.bundleFiles(b)
		platforms, ok := p.commonPlatforms(owner{"bundle", b.Name}, b.Programs, b.Trees, b.Platforms)
		if !ok {
			continue
		}
		if len(platforms) == 0 {
			p.bundle(b, platform.Platform{}, files)
		}
		for _, on := range platforms {
			p.bundle(b, on, files)
		}
	}
}

// commonPlatforms are those that all programs have, in the order of the first;
// none at all for a bundle that holds files only.
func (p *planner) commonPlatforms(o owner, programs []string, trees []config.Tree, given config.Platforms) ([]platform.Platform, bool) {
	programs = slices.Clone(programs)
	for _, t := range trees {
		programs = append(programs, t.Program)
	}
	list := given.List
	if len(given.Given) == 0 {
		if len(programs) == 0 {
			return nil, true
		}
		list = p.platformsOf(programs[0])
	}
	var out []platform.Platform
	someLeft := slices.ContainsFunc(programs, func(name string) bool {
		return len(p.platformsOf(name)) < len(p.c.Program(name).Platforms.List)
	})
	for _, on := range list {
		all, left := true, false
		for _, name := range programs {
			all = all && slices.Contains(p.platformsOf(name), on)
			left = left || p.left[name+" "+on.String()]
		}
		if all {
			out = append(out, on)
		} else if left {
			someLeft = true
		} else if len(given.Given) > 0 {
			p.fail("%s: not all of its programs are made for %s; change \"platforms\" in [%s]", o, on, o.table())
		}
	}
	if len(out) == 0 && !someLeft {
		p.fail("%s: its programs %s have no platform in common", o, strings.Join(programs, ", "))
	}
	return out, len(out) > 0
}

func (p *planner) bundle(b *config.Bundle, on platform.Platform, files []Entry) {
	v := p.platformValues(on)
	v["bundle"] = b.Name
	name := p.fill(b.File, v)
	folder := p.fill(b.Folder, v)
	target := ""
	if on.OS != "" {
		target = on.String()
	}
	var entries []Entry
	for _, program := range b.Programs {
		build, out, ok := p.buildOf(program, on)
		if !ok {
			return // its program was refused already
		}
		if out.File == "" {
			p.failOnce("bundle %q: the program %s has no single file; say which with \"file\" in [program.%s], or pack all of it with \"trees\"", b.Name, program, program)
			return
		}
		entries = append(entries, Entry{Path: path.Base(out.File), Mode: 0o755, Build: build.ID, Output: out.File})
	}
	for _, t := range b.Trees {
		build, _, ok := p.buildOf(t.Program, on)
		if !ok {
			return
		}
		entries = append(entries, Entry{Path: path.Join(".", t.To), Tree: true, Build: build.ID, From: path.Join(".", t.From)})
	}
	entries = append(entries, files...)
	for i := range entries {
		entries[i].Path = path.Join(folder, entries[i].Path)
		if !entries[i].Tree {
			entries[i].Octal = fmt.Sprintf("%04o", entries[i].Mode.Perm())
		}
	}
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	for i := 1; i < len(entries); i++ {
		if entries[i].Path == entries[i-1].Path && !entries[i].Tree && !entries[i-1].Tree {
			p.fail("bundle %q: two files would be %s in the archive; place one of them elsewhere with \"to\"", b.Name, entries[i].Path)
			return
		}
	}
	for _, format := range b.Formats.For(on) {
		if format == "zip" {
			p.zipLinks(b, entries)
		}
		p.plan.Archives = append(p.plan.Archives, Archive{name + "." + format, b.Name, target, format, path.Clean("./" + folder), entries})
		p.file(name+"."+format, KindBundle, target, from(b, len(files)))
	}
}

func from(b *config.Bundle, files int) string {
	parts := slices.Clone(b.Programs)
	for _, t := range b.Trees {
		parts = append(parts, "tree of "+t.Program)
	}
	switch files {
	case 0:
	case 1:
		parts = append(parts, "1 file")
	default:
		parts = append(parts, fmt.Sprintf("%d files", files))
	}
	return b.Name + ": " + strings.Join(parts, ", ")
}

// zipLinks refuses links that lead out of the archive: whoever unpacks a zip
// on a system without links gets a file with a path in it.
func (p *planner) zipLinks(b *config.Bundle, entries []Entry) {
	for _, e := range entries {
		if e.Link != "" && Leaves(e.Path, e.Link) {
			p.fail("bundle %q: the symbolic link %s leads to %s, outside of the archive, which zip cannot hold; leave it out or use tar.gz there", b.Name, e.Path, e.Link)
		}
	}
}

// Leaves says whether a link at a path of an archive points out of it.
func Leaves(at, target string) bool {
	if path.IsAbs(target) {
		return true
	}
	p := path.Join(path.Dir(at), target)
	return p == ".." || strings.HasPrefix(p, "../")
}

// bundleFiles finds the files of all rules.
func (p *planner) bundleFiles(b *config.Bundle) []Entry {
	var out []Entry
	for _, r := range b.Files {
		found := p.rule(owner{"bundle", b.Name}, r)
		names := make([]string, len(found))
		for i, e := range found {
			names[i] = e.From
		}
		p.plan.Matches = append(p.plan.Matches, Match{b.Name, r.From, names})
		out = append(out, found...)
	}
	return out
}

// owner is what files are taken into.
type owner struct{ kind, name string }

func (o owner) String() string { return fmt.Sprintf("%s %q", o.kind, o.name) }
func (o owner) table() string  { return o.kind + "." + o.name }

func (p *planner) rule(o owner, r config.Rule) []Entry {
	from := path.Clean(r.From)
	info, err := fs.Lstat(p.f.Files, from)
	if err == nil && !info.IsDir() {
		to := r.To
		if to == "" {
			to = from
		} else if strings.HasSuffix(to, "/") {
			to = path.Join(to, path.Base(from))
		}
		return p.entry(o, r, from, to, info)
	}
	base, pattern := from, "**"
	if err != nil {
		base, pattern = doublestar.SplitPattern(from)
		if !strings.ContainsAny(pattern, "*?[{") {
			p.fail("%s: there is no file %s; change it in [%s]", o, r.From, o.table())
			return nil
		}
		if !doublestar.ValidatePattern(pattern) {
			p.fail("%s: %q is not a pattern", o, r.From)
			return nil
		}
	}
	var out []Entry
	err = fs.WalkDir(p.f.Files, base, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return fs.SkipAll
		}
		if err != nil {
			return err
		}
		if d.IsDir() {
			if slices.Contains(ownFolders, name) {
				return fs.SkipDir
			}
			return nil
		}
		below := strings.TrimPrefix(strings.TrimPrefix(name, base), "/")
		if base == "." {
			below = name
		}
		if ok, _ := doublestar.Match(pattern, below); !ok {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		to := name
		if r.To != "" {
			to = path.Join(r.To, below)
		}
		out = append(out, p.entry(o, r, name, to, info)...)
		return nil
	})
	if err != nil {
		p.fail("%s: %s: %v", o, r.From, err)
	} else if len(out) == 0 {
		p.fail("%s: nothing matches %s; change it in [%s]", o, r.From, o.table())
	}
	return out
}

func (p *planner) entry(o owner, r config.Rule, from, to string, info fs.FileInfo) []Entry {
	e := Entry{Path: path.Clean(to), From: from, Mode: 0o644}
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := fs.ReadLink(p.f.Files, from)
		if err != nil {
			p.fail("%s: read the link %s: %v", o, from, err)
			return nil
		}
		e.Link, e.Mode = target, 0o777
		return []Entry{e}
	case !info.Mode().IsRegular():
		p.fail("%s: %s is neither a file nor a link", o, from)
		return nil
	case info.Mode()&0o100 != 0:
		e.Mode = 0o755
	}
	if r.Mode != "" {
		if n, err := strconv.ParseUint(r.Mode, 8, 9); err == nil {
			e.Mode = fs.FileMode(n & 0o777)
		}
	}
	return []Entry{e}
}
