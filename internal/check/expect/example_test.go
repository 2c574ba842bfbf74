package expect_test

import (
	"fmt"

	"piedmont/internal/base/platform"
	"piedmont/internal/check/expect"
	"piedmont/internal/format/exe"
)

func ExampleExpect_Judge() {
	found := &exe.Info{Format: exe.ELF, Type: exe.Executable, OS: "linux", Arch: "amd64", Bits: 64,
		Linkage: exe.Static}
	e := expect.Expect{Linkage: "static", Largest: 100}
	on := platform.Platform{OS: "linux", Arch: "amd64"}
	fmt.Println(e.Judge(expect.Sight{Info: found, Size: 120}, on))
	// Output: [it has 120 bytes, and at most 100 were expected (largest)]
}
