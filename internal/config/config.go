// Package config reads piedmont.toml into typed structs. Every fault of a file
// is reported at once, each with line, column, what was expected and, for a
// misspelt name, the nearest known one. The structs' tags are also where the
// reference and the JSON Schema of the file come from.
package config

import (
	"piedmont/internal/platform"
	"piedmont/internal/version"
	"piedmont/internal/version/place"
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
	Programs     []*Program     `toml:"program" doc:"An executable that is made for each of its platforms."`
	Bundles      []*Bundle      `toml:"bundle" doc:"An archive of programs and files, one for each platform."`
	Source       *Source        `toml:"source" doc:"Archives of exactly what git has at the commit, in a folder named after project and version. Submodules are included; what the commit's .gitattributes mark export-ignore is left out."`
	Destinations []*Destination `toml:"destination" doc:"Where the files are published."`
}

// Project says what is released; most of it goes into the manifest.
type Project struct {
	Name       string `toml:"name" need:"yes" doc:"Name in file names and addresses: lower-case letters, digits, dots, hyphens, underscores." example:"\"hutbell\""`
	Summary    string `toml:"summary" doc:"What it is, in one line." example:"\"Relays bulletins between mountain huts\""`
	Homepage   string `toml:"homepage" doc:"Address of the project's own site." example:"\"https://hutbell.example.org\""`
	Repository string `toml:"repository" doc:"Address of the source repository as a browser opens it." example:"\"https://code.example.org/hutbell\""`
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

// Program is an executable made for each of its platforms.
type Program struct {
	Name      string            `toml:"-"`
	Language  string            `toml:"language" need:"yes" doc:"What it is written in." choice:"go" example:"\"go\""`
	Source    string            `toml:"source" need:"yes" doc:"Folder of the main package, relative to the project's root." example:"\"./cmd/hutbell\""`
	Platforms Platforms         `toml:"platforms" need:"yes" doc:"Platforms to make it for: the name of a set, or a list of platforms and sets." example:"\"all\""`
	Stamp     map[string]string `toml:"stamp" doc:"Go variables that the linker sets, as package.variable = text." example:"{ \"main.version\" = \"{version}\" }" fill:"project version tag commit os arch variant platform program"`
	Tags      []string          `toml:"tags" doc:"Go build tags." example:"[\"netgo\"]"`
	Flags     []string          `toml:"flags" doc:"Further arguments of go build." example:"[\"-ldflags=-s -w\"]"`
	Env       map[string]string `toml:"env" doc:"Environment variables for the compiler." example:"{ GOEXPERIMENT = \"jsonv2\" }"`
	Cgo       bool              `toml:"cgo" default:"false" doc:"Whether Go may call C; off makes static programs."`
}

// Bundle is an archive of programs and files, one for each platform.
type Bundle struct {
	Name      string    `toml:"-"`
	Programs  []string  `toml:"programs" doc:"Programs to put in. The bundle is made for the platforms that all of them have." example:"[\"hutbell\"]"`
	Files     []Rule    `toml:"files" doc:"Files to put in: a path or pattern (\"docs/**\") that keeps its place, or a table with from, to and mode. A folder brings everything below it." example:"[\"LICENSE\", { from = \"man/*.1\", to = \"man/\" }]"`
	Platforms Platforms `toml:"platforms" doc:"Make it for these platforms only." example:"[\"linux/amd64\"]"`
	Formats   Formats   `toml:"formats" default:"\"tar.gz\"" doc:"Archive format: one, a list, or a table by system or platform with \"default\" for the others." example:"{ default = \"tar.gz\", windows = \"zip\" }"`
	File      string    `toml:"name" default:"\"{project}-{version}-{os}-{arch}{variant}\"" doc:"File name without its ending." fill:"project version tag commit os arch variant bundle"`
	Folder    string    `toml:"folder" default:"\"\"" doc:"Folder inside the archive that holds everything." example:"\"{project}-{version}\"" fill:"project version tag commit os arch variant bundle"`
}

// Source asks for source archives.
type Source struct {
	Formats []string `toml:"formats" default:"[\"tar.gz\"]" doc:"Archive formats." choice:"tar.gz tar.xz tar.zst zip"`
	File    string   `toml:"name" default:"\"{project}-{version}-source\"" doc:"File name without its ending." fill:"project version tag commit"`
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

// Destination finds a destination by name; nil when there is none.
func (c *Config) Destination(name string) *Destination {
	for _, d := range c.Destinations {
		if d.Name == name {
			return d
		}
	}
	return nil
}
