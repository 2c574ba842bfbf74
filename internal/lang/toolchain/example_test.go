package toolchain_test

import (
	"fmt"

	"piedmont/internal/base/platform"
	"piedmont/internal/lang/toolchain"
)

func ExamplePackages() {
	fmt.Println(toolchain.Packages(platform.Platform{OS: "linux", Arch: "s390x"}, false))
	// Output: [gcc-s390x-linux-gnu libc6-dev-s390x-cross]
}
