package static_test

import (
	"fmt"

	"piedmont/internal/publish"
	"piedmont/internal/publish/remote/memory"
	"piedmont/internal/publish/static"
)

func ExampleDestination() {
	var page publish.Destination = &static.Destination{FS: &memory.FS{}, Name: "memory",
		Where: func(version string) string { return "memory/" + version }}
	fmt.Printf("%T\n", page)
	// Output: *static.Destination
}
