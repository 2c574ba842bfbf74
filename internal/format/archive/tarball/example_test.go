package tarball_test

import (
	"fmt"

	"piedmont/internal/format/archive/tarball"
)

func ExampleFormat() {
	f := tarball.Format("zst")
	fmt.Println(f.Name(), f.MediaType())
	// Output: tar.zst application/zstd
}
