package changelog_test

import (
	"fmt"

	"piedmont/internal/project/changelog"
)

func ExampleRules_Decide() {
	changes := changelog.ReadAll([]changelog.Commit{{Message: "fix: a crack"}, {Message: "feat(bell): a low tone"}})
	d, err := changelog.DefaultRules().Decide("1.3.0", changes)
	fmt.Println(d.Change, d.Version, err)
	// Output: minor 1.4.0 <nil>
}
