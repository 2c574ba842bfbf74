package platform_test

import (
	"fmt"

	"piedmont/internal/base/platform"
)

func ExampleParse() {
	on, err := platform.Parse("linux/arm/v7")
	fmt.Println(on.Arch, on.Variant, on.Executable("bell"), err)
	// Output: arm v7 bell <nil>
}
