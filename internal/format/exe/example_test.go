package exe_test

import (
	"fmt"
	"strings"

	"piedmont/internal/format/exe"
)

func ExampleReadStream() {
	_, err := exe.ReadStream(strings.NewReader("#!/bin/sh\n"))
	fmt.Println(err)
	fmt.Println(exe.CompareNumbers("2.9", "2.34") < 0) // versions of glibc
	// Output:
	// this is no ELF, Mach-O or PE file
	// true
}
