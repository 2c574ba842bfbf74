// Package cc makes C and C++ programs and static libraries, by a compiler of the
// platform.
package cc

import (
	"context"
	_ "embed"
	"fmt"
	"io/fs"
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

// Language is C and C++.
type Language struct{}

// Keys are those of programs in C.
type Keys struct {
	lang.Building
	lang.Compiled
	Stamp     map[string]string `toml:"stamp" fill:"@placeholders"`
	Define    map[string]string `toml:"define" fill:"@placeholders"`
	Flags     []string          `toml:"flags"`
	LinkFlags []string          `toml:"link-flags"`
	Sources   []string          `toml:"sources"`
	Include   []string          `toml:"include"`
	Libraries []string          `toml:"libraries"`
	Link      string            `toml:"link" default:"\"dynamic\"" choice:"static dynamic"`
	Makes     string            `toml:"makes" default:"\"program\"" choice:"program library"`
	Symbols   string            `toml:"symbols" default:"\"strip\"" choice:"strip keep"`
}

// HasStage says that a library has headers, too.
func (k *Keys) HasStage() bool { return k.Makes == "library" }

// Build is what is compiled and linked; paths are relative to the root.
type Build struct {
	Sources   []string `json:"sources"`
	Include   []string `json:"include,omitempty"`
	Define    []string `json:"define,omitempty"` // NAME=text, sorted
	Flags     []string `json:"flags,omitempty"`
	LinkFlags []string `json:"link_flags,omitempty"`
	Libraries []string `json:"libraries,omitempty"`
	Static    bool     `json:"static,omitempty"`
	Library   bool     `json:"library,omitempty"` // a static library comes out
	CXX       bool     `json:"cxx,omitempty"`     // C++ is in it, or in a library that it needs
	Keep      bool     `json:"keep_symbols,omitempty"`
}

// Compiler is always needed.
func (b *Build) Compiler() *plan.CompilerNeed {
	return &plan.CompilerNeed{CXX: b.CXX, Static: b.Static}
}

// Stage is that of a library.
func (b *Build) Stage() bool { return b.Library }

// Executable is a program.
func (b *Build) Executable() bool { return !b.Library }

// Detail counts the sources.
func (b *Build) Detail() string {
	if len(b.Sources) == 1 {
		return "1 source"
	}
	return fmt.Sprintf("%d sources", len(b.Sources))
}

// Name is that of the language.
func (Language) Name() string { return "c" }

// Keys makes new ones.
func (Language) Keys() any { return &Keys{} }

// Docs describe the keys.
func (Language) Docs() []string { return []string{docs, lang.SharedDocs} }

var macro = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// Check holds a program's keys against what compilers take.
func (Language) Check(_ context.Context, f *config.Faults, p *lang.Program, where string) {
	k := p.Own.(*Keys)
	lang.CheckSourceFolder(f, p, where)
	for name, list := range map[string]map[string]string{"stamp": k.Stamp, "define": k.Define} {
		for key := range list {
			if !macro.MatchString(key) {
				f.Fail(where+"."+name+"."+key, fmt.Sprintf("%q cannot be the name of a macro", key), "")
			}
		}
	}
	for i, dir := range k.Include {
		f.Inside(fmt.Sprintf("%s.include.%d", where, i), dir)
	}
	for i, pattern := range k.Sources {
		if !doublestar.ValidatePattern(strings.TrimPrefix(pattern, "!")) {
			f.Fail(fmt.Sprintf("%s.sources.%d", where, i), fmt.Sprintf("%q is not a pattern", pattern), "")
		}
	}
	for i, lib := range k.Libraries {
		if lib == "" || strings.HasPrefix(lib, "-") || strings.Contains(lib, "/") {
			f.Fail(fmt.Sprintf("%s.libraries.%d", where, i), fmt.Sprintf("%q is not the name of a library",
				lib), "write \"m\" for libm; paths go into link-flags")
		}
	}
	for i, flag := range k.Flags {
		if flag == "-o" || flag == "-c" || flag == "-MF" {
			f.Fail(fmt.Sprintf("%s.flags.%d", where, i), flag+" is set by Piedmont itself", "")
		}
	}
	if k.Makes == "library" && f.Given(where+".expect") {
		f.Fail(where+".expect", "a static library is no executable: nothing can be expected of it", "")
	}
}

// endings are those of files that a C compiler is called for.
var endings = []string{".c", ".cc", ".cpp", ".cxx", ".c++", ".C", ".S"}

// isCXX says whether a file is C++ by its ending.
func isCXX(name string) bool {
	return slices.Contains([]string{".cc", ".cpp", ".cxx", ".c++", ".C"}, path.Ext(name))
}

// Plan plans one program or library.
func (Language) Plan(c *plan.Context, p *lang.Program, b *plan.Build) {
	k := p.Own.(*Keys)
	source := path.Clean(p.Source)
	b.Dir = "."
	job := &Build{Sources: sources(c, p, source), Flags: k.Flags, LinkFlags: k.LinkFlags, Libraries: k.Libraries,
		Static: k.Link == "static", Library: k.Makes == "library", Keep: k.Symbols == "keep"}
	if len(job.Sources) == 0 {
		return
	}
	job.CXX = slices.ContainsFunc(job.Sources, isCXX)
	for _, need := range b.Needs {
		for _, other := range c.Plan.Builds {
			of, ok := other.Job.(*Build)
			if other.ID != need.Build || !ok {
				continue
			}
			job.CXX = job.CXX || of.CXX
			if of.Library {
				job.Libraries = append(slices.Clip(job.Libraries), strings.TrimPrefix(need.Program, "lib"))
			}
		}
	}
	for _, dir := range k.Include {
		if info, err := fs.Stat(c.Facts.Files, path.Clean(dir)); err != nil || !info.IsDir() {
			c.Fail("program %q: there is no folder %s; change \"include\" in [program.%s]", p.Name, dir, p.Name)
		}
		job.Include = append(job.Include, path.Clean(dir))
	}
	job.Define = macros(c, p, b.Platform)
	out := plan.Output{Program: p.Name, File: b.Platform.Executable(p.Name), Expect: p.Expect}
	if job.Library {
		out.File = "lib/lib" + strings.TrimPrefix(p.Name, "lib") + ".a"
	}
	b.Programs, b.Job = []plan.Output{out}, job
	c.AddBuild("compile", b)
}

// macros are those of stamp and define, sorted.
func macros(c *plan.Context, p *lang.Program, on platform.Platform) []string {
	k, v := p.Own.(*Keys), lang.Values(c, p, on)
	var out []string
	for key, text := range k.Stamp {
		out = append(out, key+"="+quoteC(c.Fill(text, v)))
	}
	for key, text := range k.Define {
		out = append(out, key+"="+c.Fill(text, v))
	}
	slices.Sort(out)
	return out
}

// quoteC writes a text as a C string literal.
func quoteC(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

// sources lists the source files of a program, sorted.
func sources(c *plan.Context, p *lang.Program, source string) []string {
	info, err := fs.Stat(c.Facts.Files, source)
	if err != nil || !info.IsDir() {
		c.FailOnce("program %q: there is no folder %s; change \"source\" in [program.%s]", p.Name, p.Source, p.Name)
		return nil
	}
	patterns := p.Own.(*Keys).Sources
	var out []string
	err = fs.WalkDir(c.Facts.Files, source, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if slices.Contains(plan.OwnFolders, name) {
				return fs.SkipDir
			}
			return nil
		}
		below := strings.TrimPrefix(name, source+"/")
		if slices.Contains(endings, path.Ext(name)) && picked(patterns, below) {
			out = append(out, name)
		}
		return nil
	})
	if err != nil {
		c.FailOnce("program %q: %v", p.Name, err)
	} else if len(out) == 0 {
		c.FailOnce("program %q: the folder %s holds no C or C++ files that \"sources\" takes; change it in "+
			"[program.%s]", p.Name, p.Source, p.Name)
	}
	return out
}

// picked says whether patterns take a file: all files without any, and the
// last word is that of the patterns that begin with "!".
func picked(patterns []string, name string) bool {
	taken := !slices.ContainsFunc(patterns, func(s string) bool { return !strings.HasPrefix(s, "!") })
	for _, pattern := range patterns {
		without, not := strings.CutPrefix(pattern, "!")
		if ok, _ := doublestar.Match(without, name); ok {
			if not {
				return false
			}
			taken = true
		}
	}
	return taken
}
