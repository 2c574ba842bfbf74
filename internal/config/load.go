package config

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/project/version"
	"piedmont/internal/project/version/place"
	"piedmont/internal/release"
)

// ErrMissing means that no description file was found.
var ErrMissing = errors.New("there is no " + FileName + " here: run \"piedmont start\" to write one, or name it with --config")

// Find looks for the description file in dir and the folders above it, and
// stops at the top of a git repository.
func Find(dir string) (string, error) {
	for {
		file := filepath.Join(dir, FileName)
		if _, err := os.Stat(file); err == nil {
			return file, nil
		}
		_, gitErr := os.Stat(filepath.Join(dir, ".git"))
		up := filepath.Dir(dir)
		if gitErr == nil || up == dir {
			return "", ErrMissing
		}
		dir = up
	}
}

// Load reads a file. compilers lists the platforms, without variants, that the
// installed toolchain can make programs for; it is asked only when needed, and
// nil means that this is not known. The error is of type Errors when the file was read and is wrong.
func Load(file string, compilers func() ([]string, error)) (*Config, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrMissing
	}
	if err != nil {
		return nil, fmt.Errorf("read the description file: %w", err)
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	return Parse(abs, data, compilers)
}

// Parse reads the content of a file; see Load.
func Parse(file string, data []byte, compilers func() ([]string, error)) (*Config, error) {
	c := &Config{File: file, Dir: filepath.Dir(file)}
	d := &decoder{file: filepath.Base(file), at: map[string]Pos{}}
	root, bad := parse(data)
	if bad != nil {
		bad.File = d.file
		return nil, Errors{bad}
	}
	c.Version = Version{Source: "tag", Tag: "v{version}", Tags: "any"}
	c.Cut = Cut{Changelog: "CHANGELOG.md", Early: "minor"}
	c.Packing = Packing{Effort: "normal"}
	d.table(root, reflect.ValueOf(c).Elem(), "")
	golang, err := platformsOf(c, compilers)
	if err != nil {
		return nil, err
	}
	v := &validator{d, c, golang}
	v.all()
	if len(d.errors) == 0 {
		return c, nil
	}
	slices.SortStableFunc(d.errors, func(a, b *Error) int {
		if a.Pos.Line != b.Pos.Line {
			return a.Pos.Line - b.Pos.Line
		}
		return a.Pos.Column - b.Pos.Column
	})
	return nil, d.errors
}

func platformsOf(c *Config, compilers func() ([]string, error)) ([]string, error) {
	if !slices.ContainsFunc(c.Programs, func(p *Program) bool { return p.Language == "go" }) {
		return nil, nil
	}
	return compilers()
}

// validator holds what was read against what it refers to.
type validator struct {
	*decoder
	c      *Config
	golang []string // platforms of the Go toolchain, without variants; nil when not asked
}

func (v *validator) all() {
	v.project()
	v.version()
	v.inside(v.c.Cut.Changelog, "cut.changelog")
	for _, set := range v.c.Platforms {
		for _, p := range set.List {
			v.platform(p, "platforms."+set.Name+"."+p.String())
		}
		if len(set.List) == 0 {
			v.fail(v.at["platforms."+set.Name], fmt.Sprintf("the platform set %q is empty", set.Name), "")
		}
	}
	for _, t := range v.c.Toolchains {
		v.toolchain(t)
	}
	for _, p := range v.c.Programs {
		v.resolve(&p.Platforms, "program."+p.Name+".platforms")
	}
	for _, p := range v.c.Programs {
		v.program(p)
	}
	v.circle()
	for _, b := range v.c.Bundles {
		v.bundle(b)
	}
	for _, p := range v.c.Packages {
		v.pkg(p)
	}
	if s := v.c.Source; s != nil {
		if len(s.Formats) == 0 {
			s.Formats = []string{"tar.gz"}
		}
		if s.File == "" {
			s.File = "{project}-{version}-source"
		}
	}
	for _, t := range v.c.Trials {
		v.trial(t)
	}
	for _, dest := range v.c.Destinations {
		v.destination(dest)
	}
}

func (v *validator) project() {
	if name := v.c.Project.Name; name != "" {
		if err := release.CheckProject(name); err != nil {
			v.fail(v.at["project.name"], err.Error(), "")
		}
	}
	for key, s := range map[string]string{"homepage": v.c.Project.Homepage, "repository": v.c.Project.Repository} {
		if s == "" {
			continue
		}
		if u, err := url.Parse(s); err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") {
			v.fail(v.at["project."+key], fmt.Sprintf("%q is not an address a browser opens", s), "write it with https://")
		}
	}
}

func (v *validator) version() {
	pattern, err := version.ParsePattern(v.c.Version.Tag)
	if err != nil && v.at["version.tag"] != (Pos{}) && strings.Count(v.c.Version.Tag, "{") < 2 {
		v.fail(v.at["version.tag"], err.Error(), "")
	}
	v.c.Version.Pattern = pattern
	if source := v.c.Version.Source; source != "tag" {
		p, err := place.Parse(source)
		if err != nil {
			v.fail(v.at["version.source"], err.Error(), "write \"tag\", or a place such as \"Cargo.toml:package.version\"")
		}
		v.c.Version.Place = &p
	}
	for i, m := range v.c.Version.Mirror {
		p, err := place.Parse(m)
		if err != nil {
			v.fail(v.at[fmt.Sprintf("version.mirror.%d", i)], err.Error(), "")
		}
		v.c.Version.Mirrors = append(v.c.Version.Mirrors, p)
	}
}

func (v *validator) platform(p platform.Platform, where string) {
	if !platform.Known(p.Base()) && !slices.Contains(v.golang, p.Base()) {
		hint := near(p.Base(), platform.All())
		if hint == "" {
			hint = "common ones are linux/amd64, linux/arm64, darwin/arm64 and windows/amd64"
		}
		v.fail(v.at[where], fmt.Sprintf("there is no platform %q", p.Base()), hint)
		return
	}
	if err := p.CheckVariant(); err != nil {
		v.fail(v.at[where], err.Error(), "")
	}
}

// resolve turns names of sets and platforms into a list without repetition.
func (v *validator) resolve(p *Platforms, where string) {
	var sets []string
	for _, s := range v.c.Platforms {
		sets = append(sets, s.Name)
	}
	for i, name := range p.Given {
		at := fmt.Sprintf("%s.%d", where, i)
		var list []platform.Platform
		if k := slices.Index(sets, name); k >= 0 {
			list = v.c.Platforms[k].List
		} else if one, err := platform.Parse(name); err == nil {
			v.platform(one, at)
			list = []platform.Platform{one}
		} else {
			v.unknownName(at, "platform set", name, sets)
		}
		for _, one := range list {
			if !slices.Contains(p.List, one) {
				p.List = append(p.List, one)
			}
		}
	}
}

// inside reports a path that is not below the project's root.
func (v *validator) inside(p, where string) {
	if p == "" {
		return
	}
	clean := path.Clean(filepath.ToSlash(p))
	if path.IsAbs(clean) || filepath.IsAbs(p) || clean == ".." || strings.HasPrefix(clean, "../") {
		v.fail(v.at[where], fmt.Sprintf("%q leaves the project", p), "write a path relative to the folder of "+FileName)
	}
}

func (v *validator) bundle(b *Bundle) {
	where := "bundle." + b.Name
	v.resolve(&b.Platforms, where+".platforms")
	var names []string
	for _, p := range v.c.Programs {
		names = append(names, p.Name)
	}
	for i, name := range b.Programs {
		if v.c.Program(name) == nil {
			v.unknownName(fmt.Sprintf("%s.programs.%d", where, i), "program", name, names)
		}
	}
	for _, key := range b.Formats.order {
		known := platform.All()
		if key == "default" || slices.ContainsFunc(known, func(p string) bool { return p == key || strings.HasPrefix(p, key+"/") }) {
			continue
		}
		if p, err := platform.Parse(key); err == nil && platform.Known(p.Base()) && p.CheckVariant() == nil {
			continue
		}
		v.unknownName(where+".formats."+key, "system or platform", key, append([]string{"default"}, systems(known)...))
	}
	v.trees(b, where)
	for i, r := range b.Files {
		at := fmt.Sprintf("%s.files.%d", where, i)
		v.inside(r.From, at+".from")
		v.inside(r.To, at+".to")
		if _, err := strconv.ParseUint(r.Mode, 8, 9); r.Mode != "" && err != nil {
			v.fail(v.at[at+".mode"], fmt.Sprintf("%q is not a mode", r.Mode), "write octal digits, as in \"0755\"")
		}
	}
	v.inside(b.Folder, where+".folder")
	if len(b.Programs) == 0 && len(b.Files) == 0 && len(b.Trees) == 0 {
		v.fail(v.at[where], fmt.Sprintf("the bundle %q is empty", b.Name), "give it programs or files")
	}
	if b.File == "" {
		b.File = "{project}-{version}-{os}-{arch}{variant}"
		if len(b.Programs) == 0 && len(b.Trees) == 0 && len(b.Platforms.Given) == 0 {
			b.File = "{project}-{version}-{bundle}"
		}
	}
}

func systems(platforms []string) []string {
	var out []string
	for _, p := range platforms {
		if os, _, _ := strings.Cut(p, "/"); !slices.Contains(out, os) {
			out = append(out, os)
		}
	}
	return out
}

func (v *validator) destination(d *Destination) {
	where := "destination." + d.Name
	need := func(key, value, other, otherValue string) {
		if value == "" {
			v.fail(v.at[where], fmt.Sprintf("[%s] of kind %q needs the key %q", where, d.Kind, key), "")
		}
		if otherValue != "" {
			v.fail(v.at[where+"."+other], fmt.Sprintf("a destination of kind %q has no %q", d.Kind, other), "")
		}
	}
	switch d.Kind {
	case "release-page":
		need("url", d.URL, "path", d.Path)
		if _, fromEnv := strings.CutPrefix(d.URL, "env:"); d.URL != "" && !fromEnv {
			if err := CheckAddress(d.URL); err != nil {
				v.fail(v.at[where+".url"], err.Error(), "")
			}
		}
	case "folder":
		need("path", d.Path, "url", d.URL)
		if d.Token.From != "" {
			v.fail(v.at[where+".token"], "a destination of kind \"folder\" has no \"token\"", "")
		}
	}
	if d.Site != "" {
		if err := checkURL(d.Site); err != nil {
			v.fail(v.at[where+".site"], err.Error(), "")
		}
	}
}

// CheckAddress says why something cannot be a release page's address. Plain
// http may only reach this machine, since a token goes with every request.
func CheckAddress(s string) error {
	if err := checkURL(s); err != nil {
		return err
	}
	u, err := url.Parse(s)
	if err != nil {
		return err
	}
	host := u.Hostname()
	ip := net.ParseIP(host)
	if u.Scheme == "http" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("http:// would send the token readable over the network: use https://%s", u.Host)
	}
	return nil
}

func checkURL(s string) error {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return fmt.Errorf("%q is not an http or https address", s)
	}
	if u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return errors.New("an address here has no user, password, query or fragment: name the token's place with \"token\"")
	}
	return nil
}
