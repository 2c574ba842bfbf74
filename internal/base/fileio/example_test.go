package fileio_test

import (
	"fmt"
	"os"
	"path/filepath"

	"piedmont/internal/base/fileio"
)

func ExampleWrite() {
	dir, _ := os.MkdirTemp("", "fileio-*")
	defer func() { _ = os.RemoveAll(dir) }()
	path := filepath.Join(dir, "bell.txt")
	fmt.Println(fileio.Write(path, []byte("ring"), 0o644)) // whole, or not at all
	data, err := os.ReadFile(path)
	fmt.Println(string(data), err)
	// Output:
	// <nil>
	// ring <nil>
}
