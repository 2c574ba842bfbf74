// Package config reads piedmont.toml into typed structs. Every fault of a file
// is reported at once, each with line, column, what was expected and, for a
// misspelt name, the nearest known one. The structs' tags are also where the
// reference and the JSON Schema of the file come from.
package config

import (
	"piedmont/internal/base/platform"
	"piedmont/internal/project/version"
	"piedmont/internal/project/version/place"
)

// FileName is the description file at a project's root.
const FileName = "piedmont.toml"

// Config is one piedmont.toml.
type Config struct {
	File string `toml:"-"` // the path it was read from
	Dir  string `toml:"-"` // the project's root: the folder it is in

	Project      Project        `toml:"project" need:"yes" doc:"What is released."`
	Version      Version        `toml:"version" doc:"Where the version comes from."`
	Cut          Cut            `toml:"cut" doc:"How the next version follows from the commits, and what the notes say. Commits are read as Conventional Commits 1.0 has them."`
	Platforms    []*PlatformSet `toml:"platforms" doc:"Named sets of platforms: each key is a set's name, each value a list of platforms." example:"servers = [\"linux/amd64\", \"linux/arm64\"]"`
	Toolchains   []*Toolchain   `toml:"toolchain" doc:"Compilers for C and C++ for some platforms: tools of this machine, or an archive that is fetched once. Debian's cross compilers need no description."`
	Programs     []*Program     `toml:"program" doc:"An executable that is made for each of its platforms."`
	Bundles      []*Bundle      `toml:"bundle" doc:"An archive of programs and files, one for each platform."`
	Packages     []*Package     `toml:"package" doc:"A package for the package manager of distributions, one for each format and platform."`
	Source       *Source        `toml:"source" doc:"Archives of exactly what git has at the commit, in a folder named after project and version. Submodules are included; what the commit's .gitattributes mark export-ignore is left out."`
	Trials       []*Trial       `toml:"trial" doc:"A command that is run on the finished files in a clean place: an empty home, few variables, and no network where the system allows that."`
	Packing      Packing        `toml:"packing" doc:"How archives and packages are compressed."`
	Destinations []*Destination `toml:"destination" doc:"Where the files are published."`
}

// Project says what is released; most of it goes into the manifest.
type Project struct {
	Name       string `toml:"name" need:"yes" doc:"Name in file names and addresses: lower-case letters, digits, dots, hyphens, underscores." example:"\"hutbell\""`
	Summary    string `toml:"summary" doc:"What it is, in one line." example:"\"Relays bulletins between mountain huts\""`
	Homepage   string `toml:"homepage" doc:"Address of the project's own site." example:"\"https://hutbell.example.org\""`
	Repository string `toml:"repository" doc:"Address of the source repository as a browser opens it." example:"\"https://code.example.org/hutbell\""`
	Releases   string `toml:"releases" doc:"Address of a release's page; packages name it in their changelogs." example:"\"https://releases.example.org/hutbell/{version}/\"" fill:"project version tag"`
	License    string `toml:"license" doc:"Licence as an SPDX expression." example:"\"Apache-2.0\""`
	Maintainer string `toml:"maintainer" doc:"Name and address of who is responsible." example:"\"Ridge Signals <release@hutbell.example.org>\""`
}

// Version says where the version comes from.
type Version struct {
	Source string   `toml:"source" default:"\"tag\"" doc:"What carries the version: \"tag\", the git tag on HEAD; or a place in a file: a plain file (\"VERSION\"), a key of a TOML or JSON file (\"Cargo.toml:package.version\"), an element of an XML file (\"app.xml:/Project/Version\"), or a pattern with one group in any text file (\"main.c:/VERSION \\\"([^\\\"]+)\\\"/\")." example:"\"Cargo.toml:package.version\""`
	Tag    string   `toml:"tag" default:"\"v{version}\"" doc:"Form of the version tags." example:"\"release-{version}\"" fill:"version"`
	Tags   string   `toml:"tags" default:"\"any\"" doc:"What the tag of a release must be: any, annotated, or signed." choice:"any annotated signed"`
	Mirror []string `toml:"mirror" doc:"Other places that carry the version, written as in source: checked by ready, moved by cut." example:"[\"docs/install.md:/release ([0-9.]+)/\"]"`

	Pattern version.Pattern `toml:"-"`
	Place   *place.Place    `toml:"-"` // of Source, nil for the tag
	Mirrors []place.Place   `toml:"-"`
}

// Cut says how the next version follows from the commits.
type Cut struct {
	Changelog string `toml:"changelog" default:"\"CHANGELOG.md\"" doc:"The file that gets a section for each release. A section that is written by hand wins over the generated notes." example:"\"docs/changes.md\""`
	Early     string `toml:"early" default:"\"minor\"" doc:"What a breaking change asks for before 1.0.0." choice:"minor major"`
	Kinds     Kinds  `toml:"kinds" doc:"What commits of a type mean: by type, a table with change (none, patch or minor) and heading (in the notes; empty leaves them out). Types that are not named here keep their meaning: feat is minor, fix, perf and revert are patch." example:"{ feat = { change = \"minor\", heading = \"New\" }, docs = { change = \"none\", heading = \"Manual\" } }"`
}

// PlatformSet is one entry of [platforms].
type PlatformSet struct {
	Name string
	List []platform.Platform
}

// Program is an executable made for each of its platforms, or what others are
// made from. A key with a "for" tag belongs to those languages only.
type Program struct {
	Name            string            `toml:"-"`
	Language        string            `toml:"language" need:"yes" doc:"How it is made: \"go\" and \"c\" (C and C++) by their compilers, \"command\" by the project's own build, \"prebuilt\" somewhere else." choice:"go c command prebuilt" example:"\"go\""`
	Source          string            `toml:"source" need:"yes" doc:"Folder of the main package, of the C and C++ sources, or in which the commands run; for prebuilt, the file, with placeholders or a pattern. Relative to the project's root." example:"\"./cmd/hutbell\"" fill:"project version tag commit os arch variant platform program"`
	Platforms       Platforms         `toml:"platforms" need:"yes" doc:"Platforms to make it for: the name of a set, or a list of platforms and sets." example:"\"all\""`
	Needs           []string          `toml:"needs" doc:"Programs and libraries that are made first, for the same platform. C finds their include and lib folders; elsewhere {stage.NAME} is the folder with what they made." example:"[\"signal\"]" for:"go c command"`
	Toolchain       string            `toml:"toolchain" doc:"Use this [toolchain.NAME] instead of the first that has the platform." example:"\"hill\"" for:"go c command"`
	MissingCompiler string            `toml:"missing-compiler" default:"\"stop\"" doc:"What happens for a platform that this machine has no compiler for: stop, or leave-out, which makes everything but that and says so." choice:"stop leave-out" for:"c command"`
	Stamp           map[string]string `toml:"stamp" doc:"Go variables that the linker sets, as package.variable = text; in C, macros that hold a text." example:"{ \"main.version\" = \"{version}\" }" fill:"project version tag commit os arch variant platform program" for:"go c"`
	Define          map[string]string `toml:"define" doc:"Macros as they are written, without quotes of their own." example:"{ BELL_ECHOES = \"3\" }" fill:"project version tag commit os arch variant platform program" for:"c"`
	Tags            []string          `toml:"tags" doc:"Go build tags." example:"[\"netgo\"]" for:"go"`
	Flags           []string          `toml:"flags" doc:"Further arguments of go build, or of the C compiler." example:"[\"-ldflags=-s -w\"]" for:"go c"`
	LinkFlags       []string          `toml:"link-flags" doc:"Further arguments of the linking C compiler." example:"[\"-Wl,-z,now\"]" for:"c"`
	Env             map[string]string `toml:"env" doc:"Environment variables for the compiler or the commands." example:"{ GOEXPERIMENT = \"jsonv2\" }" for:"go c command"`
	Cgo             bool              `toml:"cgo" default:"false" doc:"Whether Go may call C, with the platform's compiler; off makes static programs." for:"go"`
	Sources         []string          `toml:"sources" doc:"Patterns of the source files below the source folder; without it, every C and C++ file there. One that begins with \"!\" takes files out." example:"[\"*.c\", \"!bench_*.c\"]" for:"c"`
	Include         []string          `toml:"include" doc:"Folders with headers; those of a library come with it." example:"[\"chime/include\"]" for:"c"`
	Libraries       []string          `toml:"libraries" doc:"Libraries to link with, without \"lib\" and ending." example:"[\"m\"]" for:"c"`
	Link            string            `toml:"link" default:"\"dynamic\"" doc:"How the libraries are linked." choice:"static dynamic" for:"c"`
	Makes           string            `toml:"makes" default:"\"program\"" doc:"What comes out: a program, or a static library for others." choice:"program library" for:"c"`
	Symbols         string            `toml:"symbols" default:"\"strip\"" doc:"Whether the symbol table and debug information stay." choice:"strip keep" for:"c"`
	Run             Commands          `toml:"run" doc:"The project's own build: one command as a list of texts, or a list of commands. No shell reads them. They run in a copy of the source folder, with the compilers in CC, CXX, AR and so on, and install into {stage}." example:"[[\"./configure\", \"--host={triplet}\"], [\"make\", \"install\", \"DESTDIR={stage}\"]]" for:"command"`
	File            string            `toml:"file" doc:"Where in the stage the executable is; .exe is added on Windows." example:"\"usr/bin/tower\"" for:"command"`
	Digest          map[string]string `toml:"digest" doc:"SHA-256 that the file of a platform must have." example:"{ \"linux/arm64\" = \"9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\" }" for:"prebuilt"`
	Expect          Expect            `toml:"expect" doc:"What must be true of each executable: linkage (static or dynamic), libc-at-most (a glibc version), largest (a size such as \"12 MiB\"), stripped, no-paths (none of this machine's folders in it), contains-version, needs-only (a list of libraries), loader (the path of an unusual one)." example:"{ linkage = \"static\", largest = \"12 MiB\" }"`
}

// Toolchain is a set of compilers for some platforms.
type Toolchain struct {
	Name      string            `toml:"-"`
	Platforms Platforms         `toml:"platforms" need:"yes" doc:"Platforms that it compiles for." example:"[\"linux/arm64\"]"`
	Triplet   string            `toml:"triplet" doc:"Name of the target as configure scripts write it, and first part of the tools' names." example:"\"aarch64-linux-gnu\""`
	Archive   Texts             `toml:"archive" doc:"An archive that holds it: an https, http or file address or a path, or several that are tried in turn. It is fetched and unpacked once and shared by all projects." example:"[\"https://tools.example.org/hill-12.tar.xz\", \"file:///srv/tools/hill-12.tar.xz\"]"`
	SHA256    string            `toml:"sha256" doc:"SHA-256 of the archive; needed with archive." example:"\"9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\""`
	Drop      int               `toml:"drop-folders" default:"0" doc:"How many leading folders of the archive's paths are left out." example:"1"`
	Folder    string            `toml:"folder" doc:"Where it is on this machine; with archive, a folder inside it. Without either, the tools are looked for on PATH." example:"\"/opt/hill\""`
	Tools     map[string]string `toml:"tools" doc:"Paths of the tools in that folder: cc, cxx, ar, ranlib, strip, nm, objcopy, ld, windres. Without it they are bin/TRIPLET-gcc and so on." example:"{ cc = \"bin/hill-cc\", ar = \"bin/hill-ar\" }"`
	Flags     []string          `toml:"flags" doc:"Arguments for every call of its compilers." example:"[\"-mcpu=cortex-a53\"]"`
	LinkFlags []string          `toml:"link-flags" doc:"Further arguments for linking." example:"[\"-Wl,-z,now\"]"`
	Env       map[string]string `toml:"env" doc:"Environment variables for its tools; {folder} is where it is." example:"{ HILL_HOME = \"{folder}\" }" fill:"folder"`
	Sysroot   string            `toml:"sysroot" doc:"Folder with the target's loader and libraries, for emulators; relative to the toolchain's folder." example:"\"aarch64-linux-gnu/libc\""`
}

// Bundle is an archive of programs and files, one for each platform.
type Bundle struct {
	Name      string    `toml:"-"`
	Programs  []string  `toml:"programs" doc:"Programs to put in. The bundle is made for the platforms that all of them have." example:"[\"hutbell\"]"`
	Files     []Rule    `toml:"files" doc:"Files to put in: a path or pattern (\"docs/**\") that keeps its place, or a table with from, to and mode. A folder brings everything below it." example:"[\"LICENSE\", { from = \"man/*.1\", to = \"man/\" }]"`
	Platforms Platforms `toml:"platforms" doc:"Make it for these platforms only." example:"[\"linux/amd64\"]"`
	Formats   Formats   `toml:"formats" default:"\"tar.gz\"" doc:"Archive format: one, a list, or a table by system or platform with \"default\" for the others." example:"{ default = \"tar.gz\", windows = \"zip\" }"`
	File      string    `toml:"name" default:"\"{project}-{version}-{os}-{arch}{variant}\"" doc:"File name without its ending." fill:"project version tag commit os arch variant bundle"`
	Trees     []Tree    `toml:"trees" doc:"Programs of which all that they installed into their stage is packed: a name, or a table with program, from (a folder or pattern in the stage) and to." example:"[{ program = \"tower\", from = \"usr\", to = \"\" }]"`
	Folder    string    `toml:"folder" default:"\"\"" doc:"Folder inside the archive that holds everything." example:"\"{project}-{version}\"" fill:"project version tag commit os arch variant bundle"`
}

// Source asks for source archives.
type Source struct {
	Formats []string `toml:"formats" default:"[\"tar.gz\"]" doc:"Archive formats." choice:"tar.gz tar.xz tar.zst zip"`
	File    string   `toml:"name" default:"\"{project}-{version}-source\"" doc:"File name without its ending." fill:"project version tag commit"`
}

// Packing says how archives and packages are compressed.
type Packing struct {
	Effort string `toml:"effort" default:"\"normal\"" doc:"How much time smaller files are worth: fast, normal or small. Small compresses all files of a tar.zst or arch package as one, on one core." choice:"fast normal small"`
}

// Trial is a command run on the finished files in a clean place.
type Trial struct {
	Name      string            `toml:"-"`
	Bundle    string            `toml:"bundle" need:"yes" doc:"The bundle whose archives are unpacked and tried." example:"\"cli\""`
	Run       []string          `toml:"run" need:"yes" doc:"A program of the bundle and its arguments; it runs in the archive's folder. .exe is added on Windows." example:"[\"hutbell\", \"version\"]" `
	Expect    Outcome           `toml:"expect" doc:"What must come out: a text that the output must be, apart from space at its ends; or a table with status (0 without it), is, contains (a text or several), matches (a pattern) and file (a path that must be there afterwards)." example:"\"hutbell {version}\""`
	Within    string            `toml:"within" default:"\"60s\"" doc:"How long it may take, as a number with s or m." example:"\"10s\""`
	Required  bool              `toml:"required" default:"false" doc:"Whether a platform that cannot be tried here is a failure, and publishing waits for it."`
	Platforms Platforms         `toml:"platforms" doc:"Try these platforms only." example:"[\"linux/amd64\", \"linux/arm64\"]"`
	Env       map[string]string `toml:"env" doc:"Environment variables; it gets few others." example:"{ HUT = \"Karrenjoch\" }"`
}

// Destination is where the files are published.
type Destination struct {
	Name     string `toml:"-"`
	Kind     string `toml:"kind" need:"yes" doc:"What the far side is: \"release-page\", a Piedmont server or one that speaks its protocol; \"folder\", a folder that becomes a static site." choice:"release-page folder"`
	URL      string `toml:"url" doc:"Address of a release page, or env:NAME for an environment variable that holds it." example:"\"https://releases.example.org\""`
	Token    Secret `toml:"token" doc:"Where the release page's token is: env:NAME, file:PATH or command:LINE, never the secret itself." example:"\"env:HUTBELL_PAGE_TOKEN\""`
	Path     string `toml:"path" doc:"Path of a folder, relative to the project's root." example:"\"../share/hutbell\""`
	Site     string `toml:"site" doc:"Address under which a web server shows the folder; the feed needs it for absolute links." example:"\"https://dl.example.org/hutbell\""`
	Previews bool   `toml:"previews" default:"false" doc:"Whether previews may be published there."`
}

// Program finds a program by name; nil when there is none.
func (c *Config) Program(name string) *Program {
	for _, p := range c.Programs {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Package finds a package by the name of its table; nil when there is none.
func (c *Config) Package(name string) *Package {
	for _, p := range c.Packages {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Bundle finds a bundle by name; nil when there is none.
func (c *Config) Bundle(name string) *Bundle {
	for _, b := range c.Bundles {
		if b.Name == name {
			return b
		}
	}
	return nil
}

// Destination finds a destination by name; nil when there is none.
func (c *Config) Destination(name string) *Destination {
	for _, d := range c.Destinations {
		if d.Name == name {
			return d
		}
	}
	return nil
}
