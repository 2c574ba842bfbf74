package linuxpkg

import (
	"piedmont/internal/release"
	"piedmont/internal/site"
)

// Present gives the packages of a format a group of their own, which tells whose
// they are and how one that was downloaded is installed.
func (p Part) Present(f release.Artifact, at site.Placement) site.Placement {
	if f.Package == nil {
		return at
	}
	for i, format := range p.Formats {
		if format.Name() != f.Package.Format {
			continue
		}
		layout := format.Layout()
		return site.Placement{Group: "package-" + f.Package.Format, Title: layout.Title, Rank: site.RankPackages + i,
			Part: f.Package.Name, Always: true, ByArch: true, OS: "linux", Label: "every processor",
			Install: layout.Install + f.Name}
	}
	return at
}
