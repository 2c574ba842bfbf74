package zipfile_test

import (
	"fmt"
	"io/fs"

	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/zipfile"
)

func ExampleFormat_Check() {
	link := archive.Entry{Path: "bells/gong", Link: "../../etc/passwd", Mode: fs.ModeSymlink}
	fmt.Println(zipfile.Format{}.Check(link, archive.Options{}))
	// Output: the symbolic link bells/gong leads to ../../etc/passwd, outside of the archive, which zip cannot hold
}
