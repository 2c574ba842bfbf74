package version_test

import (
	"fmt"

	"piedmont/internal/project/version"
)

func ExampleDecide() {
	pattern, err := version.ParsePattern("v{version}")
	fmt.Println(version.Decide(version.History{Here: []string{"v1.4.0"}}, pattern).Version, err)
	preview := version.Decide(version.History{Commit: "9e1fddb9cd4d", Last: "v1.4.0", Distance: 3}, pattern)
	fmt.Println(preview.Version, preview.Reason == version.Untagged)
	// Output:
	// 1.4.0 <nil>
	// 1.4.1-preview.3.g9e1fddb9 true
}
