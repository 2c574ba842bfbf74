package deb_test

import (
	"fmt"

	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/deb"
)

func ExampleFormat_FileName() {
	p := &linuxpkg.Package{Format: deb.Format{}, Name: "bell", Version: "1.0.0", Revision: "2", Epoch: 3, Arch: "arm64"}
	fmt.Println(p.FileName(), p.Full())
	// Output: bell_1.0.0-2_arm64.deb 3:1.0.0-2
}
