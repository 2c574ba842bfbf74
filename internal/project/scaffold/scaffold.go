// Package scaffold looks at a Go project and writes a first description of it.
package scaffold

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"

	"github.com/google/licensecheck"
	"golang.org/x/mod/modfile"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
	"piedmont/internal/project/git"
	"piedmont/internal/release"
)

// ErrNothing means that the folder holds no Go program.
var ErrNothing = fault.Misuse("there is no Go program here: no folder below this one has a \"package main\"",
	"Go to the root of a Go project, or name it with -C")

// passedOver are folders that hold no programs of the project's own.
var passedOver = []string{"testdata", "vendor", "node_modules", release.OutboxDir}

// documents are files, without their endings, that belong beside a program.
var documents = []string{"license", "licence", "copying", "readme", "notice"}

// Found is what a project turned out to be.
type Found struct {
	Name       string
	Module     string
	License    string // SPDX identifier, "" when not recognised
	Repository string
	Programs   []Program
	Files      []string // to go into the bundle
}

// Program is one main package.
type Program struct {
	Name   string
	Source string // ./cmd/name
	Stamps []string
}

//go:embed piedmont.toml.tmpl
var text string

var form = template.Must(template.New("").Funcs(template.FuncMap{"quote": quote}).Parse(text))

// quote writes a TOML basic string.
func quote(s string) string {
	r := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`)
	return `"` + r.Replace(s) + `"`
}

// Write gives the text of a piedmont.toml with comments.
func (f *Found) Write() ([]byte, error) {
	var b bytes.Buffer
	err := form.Execute(&b, f)
	return b.Bytes(), err
}

// Look examines the project in dir.
func Look(ctx context.Context, dir string, env environ.Env) (*Found, error) {
	f := &Found{}
	// Without git, or outside of a repository, there is no remote.
	if remote, err := (git.Repo{Dir: dir, Env: env}).Remote(ctx); err == nil {
		f.Repository = browser(remote)
	}
	if data, err := os.ReadFile(filepath.Join(dir, "go.mod")); err == nil {
		f.Module = modfile.ModulePath(data)
	}
	f.Name = projectName(f.Module, dir)
	if err := f.findPrograms(dir); err != nil {
		return nil, err
	}
	if len(f.Programs) == 0 {
		return nil, ErrNothing
	}
	f.findFiles(dir)
	return f, nil
}

var majorVersion = regexp.MustCompile(`^v[0-9]+$`)

func projectName(module, dir string) string {
	name := path.Base(module)
	if majorVersion.MatchString(name) {
		name = path.Base(path.Dir(module))
	}
	if module == "" {
		name = filepath.Base(dir)
	}
	name = strings.Trim(regexp.MustCompile(`[^a-z0-9._-]+`).ReplaceAllString(strings.ToLower(name), "-"), "-._")
	if release.CheckProject(name) != nil {
		return "project"
	}
	return name
}

// findPrograms finds every main package, as the go command would see it.
func (f *Found) findPrograms(dir string) error {
	return filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if !d.IsDir() {
			return nil
		}
		base := d.Name()
		if p != dir && (strings.HasPrefix(base, ".") || strings.HasPrefix(base, "_") ||
			slices.Contains(passedOver, base)) {
			return filepath.SkipDir
		}
		if p != dir {
			if _, err := os.Stat(filepath.Join(p, "go.mod")); err == nil {
				return filepath.SkipDir // another module
			}
		}
		stamps, isMain, err := mainPackage(p)
		if err != nil || !isMain {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		one := Program{Name: base, Source: "./" + filepath.ToSlash(rel), Stamps: stamps}
		if rel == "." {
			one.Name, one.Source = f.Name, "."
		}
		one.Name = regexp.MustCompile(`[^A-Za-z0-9_-]+`).ReplaceAllString(one.Name, "-")
		f.Programs = append(f.Programs, one)
		return nil
	})
}

// mainPackage says whether a folder holds a program, and which of its string
// variables look as if the linker should set them.
func mainPackage(dir string) (stamps []string, isMain bool, err error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, false, err
	}
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution|parser.ParseComments)
		if err != nil || file.Name.Name != "main" || ignored(file) {
			continue
		}
		isMain = true
		for _, decl := range file.Decls {
			g, ok := decl.(*ast.GenDecl)
			if !ok || g.Tok != token.VAR {
				continue
			}
			for _, s := range g.Specs {
				v := s.(*ast.ValueSpec)
				for i, n := range v.Names {
					if (n.Name == "version" || n.Name == "commit") && isString(v, i) {
						stamps = append(stamps, n.Name)
					}
				}
			}
		}
	}
	slices.Sort(stamps)
	return slices.Compact(stamps), isMain, nil
}

// ignored sees the build constraint of files that are run by hand only.
func ignored(f *ast.File) bool {
	for _, c := range f.Comments {
		if c.Pos() < f.Package && strings.Contains(c.List[0].Text, "//go:build ignore") {
			return true
		}
	}
	return false
}

func isString(v *ast.ValueSpec, i int) bool {
	if t, ok := v.Type.(*ast.Ident); ok {
		return t.Name == "string"
	}
	if i < len(v.Values) {
		l, ok := v.Values[i].(*ast.BasicLit)
		return ok && l.Kind == token.STRING
	}
	return false
}

// findFiles takes the licence and the readme, and recognises the licence.
func (f *Found) findFiles(dir string) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		name := strings.ToLower(strings.TrimSuffix(e.Name(), filepath.Ext(e.Name())))
		if !e.Type().IsRegular() || !slices.Contains(documents, name) {
			continue
		}
		f.Files = append(f.Files, e.Name())
		if name == "readme" || name == "notice" || f.License != "" {
			continue
		}
		if data, err := os.ReadFile(filepath.Join(dir, e.Name())); err == nil {
			f.License = recognise(data)
		}
	}
}

// licenses are those that are recognised. Knowing all there are would take the
// library two seconds to prepare.
var licenses = []string{
	"0BSD", "AGPL-3.0", "Apache-2.0", "BSD-2-Clause", "BSD-3-Clause", "BSL-1.0", "CC0-1.0", "EUPL-1.2",
	"GPL-2.0", "GPL-3.0", "ISC", "LGPL-2.1", "LGPL-3.0", "MIT", "MPL-2.0", "Unlicense", "Zlib",
}

// recognise gives the SPDX identifier of a licence text, or "".
func recognise(data []byte) string {
	var some []licensecheck.License
	for _, l := range licensecheck.BuiltinLicenses() {
		if slices.Contains(licenses, l.ID) {
			some = append(some, l)
		}
	}
	scanner, err := licensecheck.NewScanner(some)
	if err != nil {
		return ""
	}
	c := scanner.Scan(data)
	if c.Percent <= 75 || len(c.Match) == 0 {
		return ""
	}
	// What the text of the GNU licences leaves open is the project's to say;
	// the text alone means this version.
	if id := c.Match[0].ID; strings.Contains(id, "GPL-") {
		return id + "-only"
	}
	return c.Match[0].ID
}

var scp = regexp.MustCompile(`^(?:[^@/]+@)?([A-Za-z0-9.-]+):([^/].*)$`)

// browser turns a remote's address into one that a browser opens; "" when there is none.
func browser(remote string) string {
	if m := scp.FindStringSubmatch(remote); m != nil && !strings.Contains(remote, "://") {
		remote = "https://" + m[1] + "/" + m[2]
	}
	u, err := url.Parse(remote)
	if err != nil || u.Hostname() == "" || !slices.Contains([]string{"https", "http", "ssh", "git"}, u.Scheme) {
		return ""
	}
	return fmt.Sprintf("https://%s/%s", u.Hostname(), strings.Trim(strings.TrimSuffix(u.Path, ".git"), "/"))
}
