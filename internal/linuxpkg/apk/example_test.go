package apk_test

import (
	"fmt"

	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/apk"
)

func ExampleFormat_FileName() {
	p := &linuxpkg.Package{Format: apk.Format{}, Name: "bell", Version: "1.0.0", Revision: "2", Epoch: 3, Arch: "arm64"}
	fmt.Println(p.FileName(), p.Full())
	// Output: bell-1.0.0-r2.arm64.apk 1.0.0-r2
}
