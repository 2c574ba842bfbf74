package toolchain

import (
	_ "embed"
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"piedmont/internal/config"
)

//go:embed keys.md
var docs string

// Keys are those of [toolchain.NAME].
type Keys struct {
	Name      string
	Platforms config.Platforms  `toml:"platforms" need:"yes"`
	Triplet   string            `toml:"triplet"`
	Archive   config.Texts      `toml:"archive"`
	SHA256    string            `toml:"sha256"`
	Drop      int               `toml:"drop-folders" default:"0"`
	Folder    string            `toml:"folder"`
	Tools     map[string]string `toml:"tools"`
	Flags     []string          `toml:"flags"`
	LinkFlags []string          `toml:"link-flags"`
	Env       map[string]string `toml:"env" fill:"folder"`
	Sysroot   string            `toml:"sysroot"`
}

// toolNames are the tools that a toolchain may name.
var toolNames = []string{"cc", "cxx", "ar", "ranlib", "strip", "nm", "objcopy", "ld", "windres"}

// Table describes [toolchain.NAME].
func Table() config.Table {
	return config.Table{Name: "toolchain", Named: true, Keys: func() any { return &Keys{} }, Docs: []string{docs},
		Check: func(f *config.Faults, d *config.Document) {
			for _, k := range Of(d) {
				k.check(f, "toolchain."+k.Name)
			}
		}}
}

// Of gives the toolchains of a description.
func Of(d *config.Document) []*Keys { return config.Named[Keys](d, "toolchain") }

var sha256Form = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (k *Keys) check(f *config.Faults, where string) {
	if len(k.Archive) > 0 && k.SHA256 == "" {
		f.Fail(where+".archive", "an archive needs the key \"sha256\" beside it, so that only that one is "+
			"ever used", "")
	}
	if k.SHA256 != "" {
		if k.SHA256 = strings.ToLower(k.SHA256); !sha256Form.MatchString(k.SHA256) {
			f.Fail(where+".sha256", fmt.Sprintf("%q is not a SHA-256: that has 64 hexadecimal digits", k.SHA256), "")
		}
		if len(k.Archive) == 0 {
			f.Fail(where+".sha256", "sha256 is the archive's, and there is no archive", "")
		}
	}
	for i, a := range k.Archive {
		u, err := url.Parse(a)
		switch {
		case err != nil:
		case len(u.Scheme) > 1 && !slices.Contains([]string{"http", "https", "file"}, u.Scheme):
			f.Fail(fmt.Sprintf("%s.archive.%d", where, i), fmt.Sprintf("%s: is no way to fetch an archive",
				u.Scheme), "use https, http, file or a path")
		case u.User != nil:
			f.Fail(fmt.Sprintf("%s.archive.%d", where, i), "an address here has no user and password", "")
		}
	}
	for name := range k.Tools {
		if !slices.Contains(toolNames, name) {
			f.UnknownName(where+".tools."+name, "tool", name, toolNames)
		}
	}
	if len(k.Archive) > 0 && k.Folder != "" {
		if clean := path.Clean(filepath.ToSlash(k.Folder)); path.IsAbs(clean) || clean == ".." ||
			strings.HasPrefix(clean, "../") {
			f.Fail(where+".folder", fmt.Sprintf("%q leaves the archive", k.Folder), "")
		}
	}
	if k.Triplet == "" && k.Tools["cc"] == "" {
		f.Fail(where, fmt.Sprintf("[%s] says neither \"triplet\" nor the path of its compiler", where),
			"such as triplet = \"aarch64-linux-gnu\", or tools = { cc = \"bin/hill-cc\" }")
	}
}
