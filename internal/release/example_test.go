package release_test

import (
	"fmt"
	"time"

	"piedmont/internal/release"
)

func ExampleManifest() {
	m := &release.Manifest{Format: release.Format, Project: release.Project{Name: "hutbell"}, Version: "1.4.0",
		Commit: release.Commit{ID: "9e1fddb9cd4d8c49768e397f0b158cf5fb79f147", Time: time.Unix(0, 0).UTC()},
		Files:  []release.Artifact{{Name: "hutbell.zip", Kind: "bundle", From: "cli", Platform: "linux/arm64"}}}
	data, err := m.Encode()
	fmt.Println(len(data) > 100, err)
	_, err = release.Parse(data) // what is read may come from anywhere, so it is checked
	fmt.Println(err)
	// Output:
	// true <nil>
	// manifest: hutbell.zip has no proper sha256 and sha512
}
