// Package prebuilt takes files that were made somewhere else.
package prebuilt

import (
	"context"
	_ "embed"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"piedmont/internal/base/platform"
	"piedmont/internal/config"
	"piedmont/internal/lang"
	"piedmont/internal/plan"
)

//go:embed keys.md
var docs string

// Language is none: the files are there.
type Language struct{}

// Keys are those of files that were made somewhere else.
type Keys struct {
	Digest map[string]string `toml:"digest"`
}

// Build is a file that was made elsewhere.
type Build struct {
	File   string `json:"file"` // relative to the root
	SHA256 string `json:"sha256,omitempty"`
}

// Compiler is none.
func (*Build) Compiler() *plan.CompilerNeed { return nil }

// Stage is none.
func (*Build) Stage() bool { return false }

// Executable says that the file is a program.
func (*Build) Executable() bool { return true }

// Detail is nothing.
func (*Build) Detail() string { return "" }

// Name is that of the language.
func (Language) Name() string { return "prebuilt" }

// Keys makes new ones.
func (Language) Keys() any { return &Keys{} }

// Docs describe the keys.
func (Language) Docs() []string { return []string{docs} }

var sha256Form = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Check holds digests against the platforms that there are.
func (Language) Check(_ context.Context, f *config.Faults, p *lang.Program, where string) {
	f.Inside(where+".source", strings.NewReplacer("{", "", "}", "").Replace(p.Source))
	for key, sum := range p.Own.(*Keys).Digest {
		at := where + ".digest." + key
		on, err := platform.Parse(key)
		if err != nil || !slices.Contains(p.Platforms.List, on) {
			f.Fail(at, fmt.Sprintf("the program is not made for a platform %q", key), "")
		}
		if !sha256Form.MatchString(sum) {
			f.Fail(at, fmt.Sprintf("%q is not a SHA-256: that has 64 hexadecimal digits", sum), "")
		}
	}
}

// Plan finds the one file for a platform.
func (Language) Plan(c *plan.Context, p *lang.Program, b *plan.Build) {
	b.Dir, b.Target = ".", b.Platform.String()
	pattern := path.Clean(c.Fill(p.Source, lang.Values(c, p, b.Platform)))
	found, err := doublestar.Glob(c.Facts.Files, pattern, doublestar.WithFilesOnly())
	switch {
	case err != nil:
		c.Fail("program %q: %q is not a pattern", p.Name, pattern)
		return
	case len(found) == 0:
		c.Fail("program %q: there is no file %s for %s; put it there, or change \"source\" in [program.%s]",
			p.Name, pattern, b.Target, p.Name)
		return
	case len(found) > 1:
		c.Fail("program %q: %s matches %d files for %s: %s; make \"source\" in [program.%s] name one", p.Name,
			pattern, len(found), b.Target, strings.Join(found[:2], ", "), p.Name)
		return
	}
	b.Job = &Build{File: found[0], SHA256: p.Own.(*Keys).Digest[b.Target]}
	b.Programs = []plan.Output{{Program: p.Name, File: b.Platform.Executable(p.Name), Expect: p.Expect}}
	c.AddBuild("take", b)
}
