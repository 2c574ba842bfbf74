package rpm_test

import (
	"fmt"

	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/rpm"
)

func ExampleFormat_FileName() {
	p := &linuxpkg.Package{Format: rpm.Format{}, Name: "bell", Version: "1.0.0", Revision: "2", Epoch: 3, Arch: "arm64"}
	fmt.Println(p.FileName(), p.Full())
	// Output: bell-1.0.0-2.arm64.rpm 3:1.0.0-2
}
