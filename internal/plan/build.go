package plan

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"piedmont/internal/base/placeholder"
	"piedmont/internal/base/platform"
	"piedmont/internal/config"
)

// GoBuild is what the Go tool is told.
type GoBuild struct {
	Stamp []string `json:"stamp,omitempty"` // variable=text, sorted
	Tags  []string `json:"tags,omitempty"`
	Flags []string `json:"flags,omitempty"`
	Cgo   bool     `json:"cgo,omitempty"`
}

// CBuild is what is compiled and linked; paths are relative to the root.
type CBuild struct {
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

// CommandBuild is a project's own build. {stage}, {work}, {triplet}, {jobs} and
// {stage.NAME} are filled when it runs.
type CommandBuild struct {
	Run [][]string `json:"run"`
}

// Prebuilt is a file that was made elsewhere.
type Prebuilt struct {
	File   string `json:"file"` // relative to the root
	SHA256 string `json:"sha256,omitempty"`
}

// LeftOut is a program that is not made for a platform, and why.
type LeftOut struct {
	Program  string `json:"program"`
	Platform string `json:"platform"`
	Why      string `json:"why"`
}

// atRunTime are placeholders that stay for those who run the commands.
var atRunTime = []string{"stage", "work", "triplet", "jobs"}

// builds plans the programs in the order in which they need each other.
func (p *planner) builds() {
	p.left = map[string]bool{}
	g := &goGroups{byKey: map[string]int{}}
	for _, prog := range inOrder(p.c.Programs) {
		for _, on := range prog.Platforms.List {
			if p.leaveOut(prog, on) {
				continue
			}
			b := Build{Language: prog.Language, Platform: on, Target: on.String(), Toolchain: prog.Toolchain, Env: p.env(prog, on)}
			for _, need := range prog.Needs {
				if other, _, ok := p.buildOf(need, on); ok {
					b.Needs = append(b.Needs, Need{need, other.ID})
				}
			}
			switch prog.Language {
			case "go":
				p.goBuild(g, prog, b)
			case "c":
				p.cBuild(prog, b)
			case "command":
				p.commandBuild(prog, b)
			case "prebuilt":
				p.prebuilt(prog, b)
			}
		}
	}
}

// inOrder puts what is needed before what needs it, and else keeps the order.
// The configuration has no circles.
func inOrder(list []*config.Program) []*config.Program {
	var out []*config.Program
	var visit func(p *config.Program)
	visit = func(p *config.Program) {
		if slices.Contains(out, p) {
			return
		}
		for _, need := range p.Needs {
			if i := slices.IndexFunc(list, func(o *config.Program) bool { return o.Name == need }); i >= 0 {
				visit(list[i])
			}
		}
		out = append(out, p)
	}
	for _, p := range list {
		visit(p)
	}
	return out
}

// leaveOut says whether a program is not made for a platform because this
// machine cannot, and that was allowed.
func (p *planner) leaveOut(prog *config.Program, on platform.Platform) bool {
	for _, need := range prog.Needs {
		if p.left[need+" "+on.String()] {
			if prog.MissingCompiler != "leave-out" {
				p.fail("program %q needs %q, which is left out for %s; set missing-compiler = \"leave-out\" in [program.%s] too", prog.Name, need, on, prog.Name)
			}
			p.leave(prog, on, "it needs "+need+", which is left out")
			return true
		}
	}
	if prog.MissingCompiler != "leave-out" || p.f.Compiler == nil || (prog.Language != "c" && prog.Language != "command") {
		return false
	}
	if err := p.f.Compiler(on, prog.Toolchain); err != nil {
		p.leave(prog, on, err.Error())
		return true
	}
	return false
}

func (p *planner) leave(prog *config.Program, on platform.Platform, why string) {
	p.left[prog.Name+" "+on.String()] = true
	p.plan.LeftOut = append(p.plan.LeftOut, LeftOut{prog.Name, on.String(), why})
}

// platformsOf are those that a program is made for in this plan.
func (p *planner) platformsOf(name string) []platform.Platform {
	return slices.DeleteFunc(slices.Clone(p.c.Program(name).Platforms.List), func(on platform.Platform) bool {
		return p.left[name+" "+on.String()]
	})
}

func (p *planner) programValues(prog *config.Program, on platform.Platform) placeholder.Values {
	v := p.platformValues(on)
	v["platform"], v["program"] = on.String(), prog.Name
	return v
}

// env fills the variables, but for what is known only when they are used.
func (p *planner) env(prog *config.Program, on platform.Platform) []string {
	v := p.laterValues(prog, on)
	var out []string
	for key, text := range prog.Env {
		out = append(out, key+"="+p.fill(text, v))
	}
	slices.Sort(out)
	return out
}

func (p *planner) laterValues(prog *config.Program, on platform.Platform) placeholder.Values {
	v := p.programValues(prog, on)
	for _, name := range atRunTime {
		v[name] = "{" + name + "}"
	}
	for _, need := range prog.Needs {
		v["stage."+need] = "{stage." + need + "}"
	}
	return v
}

func (p *planner) add(verb string, b Build) int {
	b.ID = verb + " " + b.Target
	if slices.ContainsFunc(p.plan.Builds, func(o Build) bool { return o.ID == b.ID }) {
		b.ID += " " + b.Programs[0].Program
	}
	p.plan.Builds = append(p.plan.Builds, b)
	return len(p.plan.Builds) - 1
}

// goGroups finds the programs of a platform that one run of the Go tool can make.
type goGroups struct{ byKey map[string]int }

func (p *planner) goBuild(g *goGroups, prog *config.Program, b Build) {
	source := path.Clean(strings.ReplaceAll(prog.Source, "\\", "/"))
	if !p.hasGo(prog, source) {
		return
	}
	b.Dir = p.moduleOf(source)
	pkg := "./" + strings.TrimPrefix(strings.TrimPrefix(source, b.Dir), "/")
	if source == b.Dir {
		pkg = "."
	}
	b.Go = &GoBuild{Tags: prog.Tags, Flags: prog.Flags, Cgo: prog.Cgo}
	v := p.programValues(prog, b.Platform)
	for key, text := range prog.Stamp {
		b.Go.Stamp = append(b.Go.Stamp, key+"="+p.fill(text, v))
	}
	slices.Sort(b.Go.Stamp)
	out := Output{Program: prog.Name, Package: pkg, File: b.Platform.Executable(prog.Name), Expect: prog.Expect.Expect}
	key := fmt.Sprintf("%q", []any{b.Target, b.Dir, *b.Go, b.Env, b.Needs, b.Toolchain})
	// The compiler names what it makes after the folder; one whose name
	// is another must be alone in its run.
	if path.Base(source) != prog.Name || pkg == "." {
		key += prog.Name
	}
	if i, ok := g.byKey[key]; ok {
		p.plan.Builds[i].Programs = append(p.plan.Builds[i].Programs, out)
		return
	}
	b.Programs = []Output{out}
	g.byKey[key] = p.add("compile", b)
}

// cEndings are the files that a C compiler is called for.
var cEndings = []string{".c", ".cc", ".cpp", ".cxx", ".c++", ".C", ".S"}

// CPlusPlus says whether a file is C++ by its ending.
func CPlusPlus(name string) bool {
	return slices.Contains([]string{".cc", ".cpp", ".cxx", ".c++", ".C"}, path.Ext(name))
}

func (p *planner) cBuild(prog *config.Program, b Build) {
	source := path.Clean(prog.Source)
	b.Dir = "."
	c := &CBuild{Sources: p.cSources(prog, source), Flags: prog.Flags, LinkFlags: prog.LinkFlags, Libraries: prog.Libraries,
		Static: prog.Link == "static", Library: prog.Makes == "library", Keep: prog.Symbols == "keep"}
	if len(c.Sources) == 0 {
		return
	}
	c.CXX = slices.ContainsFunc(c.Sources, CPlusPlus)
	for _, need := range b.Needs {
		for _, other := range p.plan.Builds {
			if other.ID == need.Build && other.C != nil {
				c.CXX = c.CXX || other.C.CXX
				if other.C.Library {
					c.Libraries = append(slices.Clip(c.Libraries), strings.TrimPrefix(need.Program, "lib"))
				}
			}
		}
	}
	for _, dir := range prog.Include {
		if info, err := fs.Stat(p.f.Files, path.Clean(dir)); err != nil || !info.IsDir() {
			p.fail("program %q: there is no folder %s; change \"include\" in [program.%s]", prog.Name, dir, prog.Name)
		}
		c.Include = append(c.Include, path.Clean(dir))
	}
	v := p.programValues(prog, b.Platform)
	for key, text := range prog.Stamp {
		c.Define = append(c.Define, key+"="+quoteC(p.fill(text, v)))
	}
	for key, text := range prog.Define {
		c.Define = append(c.Define, key+"="+p.fill(text, v))
	}
	slices.Sort(c.Define)
	b.C = c
	out := Output{Program: prog.Name, File: b.Platform.Executable(prog.Name), Expect: prog.Expect.Expect}
	if c.Library {
		out.File = "lib/lib" + strings.TrimPrefix(prog.Name, "lib") + ".a"
	}
	b.Programs = []Output{out}
	p.add("compile", b)
}

// quoteC writes a text as a C string literal.
func quoteC(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

// cSources lists the source files of a program, sorted.
func (p *planner) cSources(prog *config.Program, source string) []string {
	info, err := fs.Stat(p.f.Files, source)
	if err != nil || !info.IsDir() {
		p.failOnce("program %q: there is no folder %s; change \"source\" in [program.%s]", prog.Name, prog.Source, prog.Name)
		return nil
	}
	var out []string
	err = fs.WalkDir(p.f.Files, source, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if slices.Contains(ownFolders, name) {
				return fs.SkipDir
			}
			return nil
		}
		below := strings.TrimPrefix(name, source+"/")
		if slices.Contains(cEndings, path.Ext(name)) && picked(prog.Sources, below) {
			out = append(out, name)
		}
		return nil
	})
	if err != nil {
		p.failOnce("program %q: %v", prog.Name, err)
	} else if len(out) == 0 {
		p.failOnce("program %q: the folder %s holds no C or C++ files that \"sources\" takes; change it in [program.%s]", prog.Name, prog.Source, prog.Name)
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

func (p *planner) commandBuild(prog *config.Program, b Build) {
	b.Dir = path.Clean(prog.Source)
	if info, err := fs.Stat(p.f.Files, b.Dir); err != nil || !info.IsDir() {
		p.failOnce("program %q: there is no folder %s; change \"source\" in [program.%s]", prog.Name, prog.Source, prog.Name)
		return
	}
	v := p.laterValues(prog, b.Platform)
	b.Command = &CommandBuild{}
	for _, words := range prog.Run {
		line := make([]string, len(words))
		for i, w := range words {
			line[i] = p.fill(w, v)
		}
		b.Command.Run = append(b.Command.Run, line)
	}
	out := Output{Program: prog.Name, Expect: prog.Expect.Expect}
	if prog.File != "" {
		out.File = strings.TrimPrefix(path.Clean(prog.File), "/")
		if path.Ext(out.File) != ".exe" {
			out.File = b.Platform.Executable(out.File)
		}
	}
	b.Programs = []Output{out}
	p.add("build", b)
}

func (p *planner) prebuilt(prog *config.Program, b Build) {
	b.Dir = "."
	pattern := path.Clean(p.fill(prog.Source, p.programValues(prog, b.Platform)))
	found, err := doublestar.Glob(p.f.Files, pattern, doublestar.WithFilesOnly())
	if err != nil {
		p.fail("program %q: %q is not a pattern", prog.Name, pattern)
		return
	}
	switch len(found) {
	case 0:
		p.fail("program %q: there is no file %s for %s; put it there, or change \"source\" in [program.%s]", prog.Name, pattern, b.Target, prog.Name)
		return
	case 1:
	default:
		p.fail("program %q: %s matches %d files for %s: %s; make \"source\" in [program.%s] name one", prog.Name, pattern, len(found), b.Target, strings.Join(found[:2], ", "), prog.Name)
		return
	}
	b.Prebuilt = &Prebuilt{File: found[0], SHA256: prog.Digest[b.Target]}
	b.Programs = []Output{{Program: prog.Name, File: b.Platform.Executable(prog.Name), Expect: prog.Expect.Expect}}
	p.add("take", b)
}

func (p *planner) hasGo(prog *config.Program, source string) bool {
	entries, err := fs.ReadDir(p.f.Files, source)
	if err != nil {
		p.failOnce("program %q: there is no folder %s; change \"source\" in [program.%s]", prog.Name, prog.Source, prog.Name)
		return false
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".go") && !strings.HasSuffix(e.Name(), "_test.go") {
			return true
		}
	}
	p.failOnce("program %q: the folder %s holds no Go files; change \"source\" in [program.%s]", prog.Name, prog.Source, prog.Name)
	return false
}

// moduleOf finds the folder of the go.mod that a package belongs to.
func (p *planner) moduleOf(source string) string {
	for dir := source; ; dir = path.Dir(dir) {
		if _, err := fs.Stat(p.f.Files, path.Join(dir, "go.mod")); err == nil || dir == "." {
			return dir
		}
	}
}

// buildOf finds the build that makes a program for a platform.
func (p *planner) buildOf(program string, on platform.Platform) (Build, Output, bool) {
	for _, b := range p.plan.Builds {
		if b.Platform != on {
			continue
		}
		for _, o := range b.Programs {
			if o.Program == program {
				return b, o, true
			}
		}
	}
	return Build{}, Output{}, false
}
