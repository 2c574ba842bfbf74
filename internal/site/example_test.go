package site_test

import (
	"fmt"
	"time"

	"piedmont/internal/release"
	"piedmont/internal/site"
)

func ExampleSite() {
	r := release.Release{Record: release.Record{State: release.StatePublic, Published: time.Unix(0, 0)},
		Manifest: &release.Manifest{Project: release.Project{Name: "hutbell"}, Version: "1.4.0"}}
	page, err := site.Site{Releases: []release.Release{r}}.Project()
	fmt.Println(len(page) > 1000, err)
	_, err = site.Site{}.Project()
	fmt.Println(err)
	// Output:
	// true <nil>
	// nothing is published
}
