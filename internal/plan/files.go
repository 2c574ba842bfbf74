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

	"piedmont/internal/config"
	"piedmont/internal/format/archive"
	"piedmont/internal/release"
)

// OwnFolders of the project hold none of its files.
var OwnFolders = []string{".git", ".piedmont", "outbox"}

// Owner is what files are taken into.
type Owner struct{ Kind, Name string }

// String is for faults, as in: bundle "cli".
func (o Owner) String() string { return fmt.Sprintf("%s %q", o.Kind, o.Name) }

// Table is where the owner is described.
func (o Owner) Table() string { return o.Kind + "." + o.Name }

// Files finds the files that a rule takes, with their places.
func (c *Context) Files(o Owner, r config.Rule) []release.Entry {
	from := path.Clean(r.From)
	info, err := fs.Lstat(c.Facts.Files, from)
	if err == nil && !info.IsDir() {
		to := r.To
		if to == "" {
			to = from
		} else if strings.HasSuffix(to, "/") {
			to = path.Join(to, path.Base(from))
		}
		return c.entry(o, r, from, to, info)
	}
	base, pattern := from, "**"
	if err != nil {
		base, pattern = doublestar.SplitPattern(from)
		if !strings.ContainsAny(pattern, "*?[{") {
			c.Fail("%s: there is no file %s; change it in [%s]", o, r.From, o.Table())
			return nil
		}
		if !doublestar.ValidatePattern(pattern) {
			c.Fail("%s: %q is not a pattern", o, r.From)
			return nil
		}
	}
	return c.matching(o, r, base, pattern)
}

// matching finds the files below a folder that a pattern takes.
func (c *Context) matching(o Owner, r config.Rule, base, pattern string) []release.Entry {
	var out []release.Entry
	err := fs.WalkDir(c.Facts.Files, base, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return fs.SkipAll
		}
		if err != nil {
			return err
		}
		if d.IsDir() {
			if slices.Contains(OwnFolders, name) {
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
		out = append(out, c.entry(o, r, name, to, info)...)
		return nil
	})
	if err != nil {
		c.Fail("%s: %s: %v", o, r.From, err)
	} else if len(out) == 0 {
		c.Fail("%s: nothing matches %s; change it in [%s]", o, r.From, o.Table())
	}
	return out
}

func (c *Context) entry(o Owner, r config.Rule, from, to string, info fs.FileInfo) []release.Entry {
	var e release.Entry
	e.Path, e.Mode, e.From.Path = path.Clean(to), 0o644, from
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := fs.ReadLink(c.Facts.Files, from)
		if err != nil {
			c.Fail("%s: read the link %s: %v", o, from, err)
			return nil
		}
		e.Link, e.Mode = target, fs.ModeSymlink|0o777
		return []release.Entry{e}
	case !info.Mode().IsRegular():
		c.Fail("%s: %s is neither a file nor a link", o, from)
		return nil
	case info.Mode()&0o100 != 0:
		e.Mode = 0o755
	}
	if r.Mode != "" {
		e.Mode = ParseMode(r.Mode, e.Mode)
	}
	return []release.Entry{e}
}

// ParseMode reads octal digits with setuid, setgid and sticky.
func ParseMode(text string, without fs.FileMode) fs.FileMode {
	n, err := strconv.ParseUint(text, 8, 12)
	if err != nil {
		return without
	}
	return archive.FileMode(uint32(n))
}

// octal is an entry's mode as a plan tells it; a tree has none.
func octal(e release.Entry) string {
	if e.From.Tree {
		return ""
	}
	return archive.Octal(e.Mode)
}
