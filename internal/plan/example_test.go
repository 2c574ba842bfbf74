package plan_test

import (
	"fmt"
	"testing/fstest"

	"piedmont/internal/config"
	"piedmont/internal/plan"
	"piedmont/internal/project"
	"piedmont/internal/project/version"
	"piedmont/internal/release"
)

// readme is a part that releases one file.
type readme struct{}

func (readme) Table() config.Table { return config.Table{} }

func (readme) Plan(c *plan.Context) {
	c.Add(&release.Artifact{Name: c.Fill("{project}-{version}.txt", c.Values()), Kind: "readme", MadeFrom: "README"})
}

func ExampleNew() {
	tables := []config.Table{project.Table(), version.Table(), plan.PackingTable()}
	d, err := config.Parse("piedmont.toml", []byte("[project]\nname = \"hutbell\"\n"), tables)
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := plan.New(d, plan.Facts{Release: version.Release{Version: "1.4.0"}, Files: fstest.MapFS{}},
		[]plan.Part{readme{}})
	fmt.Println(p.Artifacts[0].Name, err)
	// Output: hutbell-1.4.0.txt <nil>
}
