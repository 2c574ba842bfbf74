package verify_test

import (
	"context"
	"fmt"
	"os"

	"piedmont/internal/base/progress"
	"piedmont/internal/check/verify"
)

func ExampleFolder() {
	dir, _ := os.MkdirTemp("", "release-*")
	defer func() { _ = os.RemoveAll(dir) }()
	_ = os.WriteFile(dir+"/manifest.json", []byte("{}"), 0o644)
	_, err := verify.Folder(context.Background(), dir, verify.Options{Jobs: 2, Events: progress.Discard{}})
	fmt.Println(err)
	// Output: the manifest's format is ""; this version of Piedmont reads "piedmont-manifest/1"
}
