package kinds_test

import (
	"fmt"

	"piedmont/internal/kinds"
)

func ExampleKinds_Tables() {
	for _, t := range kinds.New(kinds.Options{}).Tables() {
		fmt.Print(t.Name, " ")
	}
	// Output: project version cut platforms toolchain program bundle package source trial packing destination
}
