package config

import (
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
)

// everywhere are the placeholders of a program's texts.
var everywhere = []string{"project", "version", "tag", "commit", "os", "arch", "variant", "platform", "program"}

func (v *validator) program(p *Program) {
	where := "program." + p.Name
	v.ofLanguage(p, where)
	v.defaults(p)
	if p.Language != "prebuilt" {
		v.inside(p.Source, where+".source")
		if strings.Contains(p.Source, "{") && v.at[where+".source"] != (Pos{}) {
			v.fail(v.at[where+".source"], "the source folder of a program that is built here is one for all platforms: it has no placeholders", "")
		}
	}
	v.needs(p, where)
	if p.Toolchain != "" && !slices.ContainsFunc(v.c.Toolchains, func(t *Toolchain) bool { return t.Name == p.Toolchain }) {
		var names []string
		for _, t := range v.c.Toolchains {
			names = append(names, t.Name)
		}
		v.unknownName(where+".toolchain", "toolchain", p.Toolchain, names)
	}
	switch p.Language {
	case "go":
		v.goProgram(p, where)
	case "c":
		v.cProgram(p, where)
	case "command":
		v.commandProgram(p, where)
	case "prebuilt":
		v.prebuiltProgram(p, where)
	}
}

// ofLanguage refuses keys that the program's language does not have.
func (v *validator) ofLanguage(p *Program, where string) {
	for _, f := range fieldsOf(reflect.TypeFor[Program]()) {
		languages := strings.Fields(f.Tag.Get("for"))
		key := f.Tag.Get("toml")
		pos, given := v.at[where+"."+key]
		if given && p.Language != "" && len(languages) > 0 && !slices.Contains(languages, p.Language) {
			v.fail(pos, fmt.Sprintf("language = %q has no key %q", p.Language, key), "it is for "+strings.Join(languages, ", "))
		}
	}
}

func (v *validator) defaults(p *Program) {
	for _, d := range []struct {
		value *string
		text  string
	}{{&p.MissingCompiler, "stop"}, {&p.Link, "dynamic"}, {&p.Makes, "program"}, {&p.Symbols, "strip"}} {
		if *d.value == "" {
			*d.value = d.text
		}
	}
}

func (v *validator) needs(p *Program, where string) {
	var names []string
	for _, other := range v.c.Programs {
		names = append(names, other.Name)
	}
	for i, name := range p.Needs {
		at := fmt.Sprintf("%s.needs.%d", where, i)
		other := v.c.Program(name)
		if other == nil {
			v.unknownName(at, "program", name, names)
			continue
		}
		var lacking []string
		for _, on := range p.Platforms.List {
			if !slices.Contains(other.Platforms.List, on) {
				lacking = append(lacking, on.String())
			}
		}
		if len(lacking) > 0 {
			v.fail(v.at[at], fmt.Sprintf("%s is needed for %s, and it is not made for that", name, strings.Join(lacking, ", ")), "add it to \"platforms\" in [program."+name+"]")
		}
	}
}

// circle refuses programs that need each other.
func (v *validator) circle() {
	state := map[string]int{}
	var visit func(p *Program) bool
	visit = func(p *Program) bool {
		state[p.Name] = 1
		for i, name := range p.Needs {
			other := v.c.Program(name)
			if other == nil || state[name] == 2 {
				continue
			}
			if state[name] == 1 {
				v.fail(v.at[fmt.Sprintf("program.%s.needs.%d", p.Name, i)], fmt.Sprintf("%s and %s need each other", p.Name, name), "")
				return false
			}
			if !visit(other) {
				return false
			}
		}
		state[p.Name] = 2
		return true
	}
	for _, p := range v.c.Programs {
		if state[p.Name] == 0 && !visit(p) {
			return
		}
	}
}

func (v *validator) goProgram(p *Program, where string) {
	for _, on := range p.Platforms.List {
		if v.golang != nil && !slices.Contains(v.golang, on.Base()) {
			v.fail(v.at[where+".platforms.0"], fmt.Sprintf("the Go toolchain cannot compile for %s", on.Base()), "\"go tool dist list\" shows what it can")
		}
	}
	for i, flag := range p.Flags {
		if !strings.HasPrefix(flag, "-") {
			v.fail(v.at[fmt.Sprintf("%s.flags.%d", where, i)], fmt.Sprintf("%q is not a flag: it begins with no hyphen", flag), "write a flag and its value in one text, as in \"-gcflags=-N\"")
		}
		if name, _, _ := strings.Cut(strings.TrimLeft(flag, "-"), "="); name == "o" || name == "C" {
			v.fail(v.at[fmt.Sprintf("%s.flags.%d", where, i)], fmt.Sprintf("-%s is set by Piedmont itself", name), "")
		}
	}
	for key := range p.Env {
		if slices.Contains([]string{"GOOS", "GOARCH", "CGO_ENABLED", "GOFLAGS"}, key) {
			v.fail(v.at[where+".env."+key], key+" is set by Piedmont itself", "use platforms, cgo and flags")
		}
	}
	v.filledMap(p.Env, where+".env", stageNames(p, everywhere))
}

var macro = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (v *validator) cProgram(p *Program, where string) {
	for key := range p.Stamp {
		if !macro.MatchString(key) {
			v.fail(v.at[where+".stamp."+key], fmt.Sprintf("%q cannot be the name of a macro", key), "")
		}
	}
	for key := range p.Define {
		if !macro.MatchString(key) {
			v.fail(v.at[where+".define."+key], fmt.Sprintf("%q cannot be the name of a macro", key), "")
		}
	}
	for i, dir := range p.Include {
		v.inside(dir, fmt.Sprintf("%s.include.%d", where, i))
	}
	for i, pattern := range p.Sources {
		if !doublestar.ValidatePattern(strings.TrimPrefix(pattern, "!")) {
			v.fail(v.at[fmt.Sprintf("%s.sources.%d", where, i)], fmt.Sprintf("%q is not a pattern", pattern), "")
		}
	}
	for i, lib := range p.Libraries {
		if lib == "" || strings.HasPrefix(lib, "-") || strings.Contains(lib, "/") {
			v.fail(v.at[fmt.Sprintf("%s.libraries.%d", where, i)], fmt.Sprintf("%q is not the name of a library", lib), "write \"m\" for libm; paths go into link-flags")
		}
	}
	for i, flag := range p.Flags {
		if flag == "-o" || flag == "-c" || flag == "-MF" {
			v.fail(v.at[fmt.Sprintf("%s.flags.%d", where, i)], flag+" is set by Piedmont itself", "")
		}
	}
	if p.Makes == "library" && v.at[where+".expect"] != (Pos{}) {
		v.fail(v.at[where+".expect"], "a static library is no executable: nothing can be expected of it", "")
	}
}

func (v *validator) commandProgram(p *Program, where string) {
	if len(p.Run) == 0 {
		v.fail(v.at[where], fmt.Sprintf("[%s] needs the key \"run\": the commands that build it", where), "such as run = [[\"make\"], [\"make\", \"install\", \"DESTDIR={stage}\"]]")
	}
	names := stageNames(p, append([]string{"stage", "work", "triplet", "jobs"}, everywhere...))
	for i, words := range p.Run {
		v.filled(words, fmt.Sprintf("%s.run.%d", where, i), names)
	}
	v.filledMap(p.Env, where+".env", names)
	if p.File != "" {
		v.inside(p.File, where+".file")
	}
}

// stageNames adds the placeholders for the stages of what a program needs.
func stageNames(p *Program, names []string) []string {
	out := slices.Clone(names)
	for _, n := range p.Needs {
		out = append(out, "stage."+n)
	}
	return out
}

func (v *validator) prebuiltProgram(p *Program, where string) {
	v.inside(strings.NewReplacer("{", "", "}", "").Replace(p.Source), where+".source")
	for key, sum := range p.Digest {
		at := v.at[where+".digest."+key]
		on, err := platform.Parse(key)
		if err != nil || !slices.Contains(p.Platforms.List, on) {
			v.fail(at, fmt.Sprintf("the program is not made for a platform %q", key), "")
		}
		if !isSHA256(sum) {
			v.fail(at, fmt.Sprintf("%q is not a SHA-256: that has 64 hexadecimal digits", sum), "")
		}
	}
}

var sha256Form = regexp.MustCompile(`^[0-9a-f]{64}$`)

func isSHA256(s string) bool { return sha256Form.MatchString(s) }

// filled checks the placeholders of a list of texts.
func (v *validator) filled(texts []string, where string, names []string) {
	for i, text := range texts {
		if err := placeholder.Check(text, names); err != nil {
			v.fail(v.at[fmt.Sprintf("%s.%d", where, i)], err.Error(), "")
		}
	}
}

func (v *validator) filledMap(texts map[string]string, where string, names []string) {
	for key, text := range texts {
		if err := placeholder.Check(text, names); err != nil {
			v.fail(v.at[where+"."+key], err.Error(), "")
		}
	}
}

func (v *validator) toolchain(t *Toolchain) {
	where := "toolchain." + t.Name
	v.resolve(&t.Platforms, where+".platforms")
	if len(t.Archive) > 0 && t.SHA256 == "" {
		v.fail(v.at[where+".archive"], "an archive needs the key \"sha256\" beside it, so that only that one is ever used", "")
	}
	if t.SHA256 != "" {
		if t.SHA256 = strings.ToLower(t.SHA256); !isSHA256(t.SHA256) {
			v.fail(v.at[where+".sha256"], fmt.Sprintf("%q is not a SHA-256: that has 64 hexadecimal digits", t.SHA256), "")
		}
		if len(t.Archive) == 0 {
			v.fail(v.at[where+".sha256"], "sha256 is the archive's, and there is no archive", "")
		}
	}
	for i, a := range t.Archive {
		if u, err := url.Parse(a); err == nil && u.Scheme != "" && len(u.Scheme) > 1 && !slices.Contains([]string{"http", "https", "file"}, u.Scheme) {
			v.fail(v.at[fmt.Sprintf("%s.archive.%d", where, i)], fmt.Sprintf("%s: is no way to fetch an archive", u.Scheme), "use https, http, file or a path")
		} else if err == nil && u.User != nil {
			v.fail(v.at[fmt.Sprintf("%s.archive.%d", where, i)], "an address here has no user and password", "")
		}
	}
	for name := range t.Tools {
		if !knownTool(name) {
			v.unknownName(where+".tools."+name, "tool", name, toolNames)
		}
	}
	if len(t.Archive) > 0 && t.Folder != "" {
		if clean := path.Clean(filepath.ToSlash(t.Folder)); path.IsAbs(clean) || clean == ".." || strings.HasPrefix(clean, "../") {
			v.fail(v.at[where+".folder"], fmt.Sprintf("%q leaves the archive", t.Folder), "")
		}
	}
	if t.Triplet == "" && t.Tools["cc"] == "" {
		v.fail(v.at[where], fmt.Sprintf("[%s] says neither \"triplet\" nor the path of its compiler", where), "such as triplet = \"aarch64-linux-gnu\", or tools = { cc = \"bin/hill-cc\" }")
	}
}

func (v *validator) trees(b *Bundle, where string) {
	for i, t := range b.Trees {
		at := fmt.Sprintf("%s.trees.%d", where, i)
		p := v.c.Program(t.Program)
		switch {
		case t.Program == "":
		case p == nil:
			var names []string
			for _, p := range v.c.Programs {
				names = append(names, p.Name)
			}
			v.unknownName(at+".program", "program", t.Program, names)
		case p.Language != "command" && p.Makes != "library":
			v.fail(v.at[at+".program"], fmt.Sprintf("%s is one file and has no stage", t.Program), "name it in programs instead")
		}
		v.inside(t.From, at+".from")
		v.inside(t.To, at+".to")
	}
}

// LongestTrial bounds what may be declared.
const LongestTrial = 6 * time.Hour

func (v *validator) trial(t *Trial) {
	where := "trial." + t.Name
	v.resolve(&t.Platforms, where+".platforms")
	if t.Bundle != "" && v.c.Bundle(t.Bundle) == nil {
		var names []string
		for _, b := range v.c.Bundles {
			names = append(names, b.Name)
		}
		v.unknownName(where+".bundle", "bundle", t.Bundle, names)
	}
	if t.Within == "" {
		t.Within = "60s"
	}
	if d, err := time.ParseDuration(t.Within); err != nil || d <= 0 || d > LongestTrial {
		v.fail(v.at[where+".within"], fmt.Sprintf("%q is not a time that a trial can take", t.Within), "write it as in \"10s\" or \"2m\"")
	}
	names := append(slices.Clone(everywhere[:len(everywhere)-1]), "bundle")
	v.filled(t.Run, where+".run", names)
	if len(t.Run) == 0 && v.at[where+".run"] != (Pos{}) {
		v.fail(v.at[where+".run"], "a trial runs at least a program", "")
	}
	if len(t.Run) > 0 {
		v.inside(t.Run[0], where+".run.0")
	}
	v.filledMap(t.Env, where+".env", names)
	v.filled([]string{t.Expect.Is}, where+".expect", names)
	v.filled(t.Expect.Contains, where+".expect.contains", names)
	v.inside(t.Expect.File, where+".expect.file")
	if _, err := regexp.Compile(t.Expect.Matches); err != nil {
		v.fail(v.at[where+".expect.matches"], fmt.Sprintf("%q is not a pattern: %v", t.Expect.Matches, err), "")
	}
}
