package semver_test

import (
	"fmt"
	"slices"
	"testing"

	"piedmont/internal/base/semver"
)

func ExampleCompare() {
	list := []string{"1.10.0", "1.4.0", "1.4.0-rc.1", "v2", "1.4.0-rc.10"}
	slices.SortFunc(list, semver.Compare)
	fmt.Println(list)
	// Output: [v2 1.4.0-rc.1 1.4.0-rc.10 1.4.0 1.10.0]
}

func TestValid(t *testing.T) {
	for s, want := range map[string]bool{"1.4.0": true, "1.4.0-rc.1+b": true, "1.4": false, "v1.4.0": false,
		"": false, "01.0.0": false} {
		if semver.Valid(s) != want {
			t.Errorf("%q: valid is not %v", s, want)
		}
	}
	for s, want := range map[string]bool{"1.4.0": false, "1.4.0-rc.1": true, "1.4.0+b": false, "x": false} {
		if semver.IsPrerelease(s) != want {
			t.Errorf("%q: a pre-release is not %v", s, want)
		}
	}
}
