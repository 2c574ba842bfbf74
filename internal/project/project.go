// Package project is the table [project]: what is released, by whom, under which
// licence. The packages below it are what Piedmont knows of a project before
// anything is planned.
package project

import (
	_ "embed"
	"fmt"
	"net/url"

	"github.com/github/go-spdx/v2/spdxexp"

	"piedmont/internal/config"
	"piedmont/internal/release"
)

//go:embed keys.md
var docs string

// Keys are those of [project].
type Keys struct {
	Name       string `toml:"name" need:"yes"`
	Summary    string `toml:"summary"`
	Homepage   string `toml:"homepage"`
	Repository string `toml:"repository"`
	Releases   string `toml:"releases" fill:"project version tag"`
	License    string `toml:"license"`
	Maintainer string `toml:"maintainer"`
}

// Table describes [project].
func Table() config.Table {
	return config.Table{Name: "project", Need: true, Keys: func() any { return &Keys{} }, Docs: []string{docs},
		Check: check}
}

// Of gives the keys of a description.
func Of(d *config.Document) *Keys { return config.One[Keys](d, "project") }

// Release is what a manifest says of the project.
func (k *Keys) Release() release.Project {
	return release.Project{Name: k.Name, Summary: k.Summary, Homepage: k.Homepage, Repository: k.Repository,
		License: k.License, Maintainer: k.Maintainer}
}

func check(f *config.Faults, d *config.Document) {
	k := Of(d)
	if k.Name != "" {
		if err := release.CheckProject(k.Name); err != nil {
			f.Fail("project.name", err.Error(), "")
		}
	}
	for _, a := range []struct{ key, value string }{{"homepage", k.Homepage}, {"repository", k.Repository}} {
		if u, err := url.Parse(a.value); a.value != "" &&
			(err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http")) {
			f.Fail("project."+a.key, fmt.Sprintf("%q is not an address a browser opens", a.value),
				"write it with https://")
		}
	}
	CheckLicense(f, "project.license", k.License)
}

// CheckLicense reports what is no SPDX licence expression.
func CheckLicense(f *config.Faults, where, license string) {
	if license == "" {
		return
	}
	if ok, _ := spdxexp.ValidateLicenses([]string{license}); !ok {
		f.Fail(where, fmt.Sprintf("%q is not a licence as SPDX writes them", license),
			"such as \"Apache-2.0\" or \"MIT OR GPL-2.0-or-later\"; one that has no name there is \"LicenseRef-NAME\"")
	}
}
