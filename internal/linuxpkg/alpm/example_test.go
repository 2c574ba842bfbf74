package alpm_test

import (
	"fmt"

	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/alpm"
)

func ExampleFormat_FileName() {
	p := &linuxpkg.Package{Format: alpm.Format{}, Name: "bell", Version: "1.0.0", Revision: "2", Epoch: 3,
		Arch: "arm64"}
	fmt.Println(p.FileName(), p.Full())
	// Output: bell-1.0.0-2-arm64.pkg.tar.zst 3:1.0.0-2
}
