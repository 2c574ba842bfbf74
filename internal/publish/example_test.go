package publish_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"piedmont/internal/base/httpx"
	"piedmont/internal/base/progress"
	"piedmont/internal/publish"
	"piedmont/internal/publish/remote/memory"
	"piedmont/internal/publish/static"
	"piedmont/internal/release"
)

// A finished release is brought to a store of files: draft, upload, verify, public.
func ExampleRun() {
	dir, _ := os.MkdirTemp("", "outbox-*")
	defer func() { _ = os.RemoveAll(dir) }()
	m := &release.Manifest{Format: release.Format, Project: release.Project{Name: "hutbell"}, Version: "1.4.0",
		Commit: release.Commit{ID: strings.Repeat("ab", 20)}, Files: []release.Artifact{{Name: "empty.txt",
			SHA256: "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
			SHA512: "cf83e1357eefb8bdf1542850d66d8007d620e4050b5715dc83f4a921d36ce9ce" +
				"47d0d13c5d85f2b0ff8318d2877eec2f63b931bd47417a81a538327af927da3e"}}}
	encoded, _ := m.Encode()
	_ = os.WriteFile(filepath.Join(dir, "empty.txt"), nil, 0o644)
	page := &static.Destination{FS: &memory.FS{}, Where: func(v string) string { return "memory/" + v }}
	res, err := publish.Run(context.Background(), &publish.Outbox{Dir: dir, Manifest: m, Encoded: encoded}, page,
		publish.Options{Name: "memory", Jobs: 2, Patience: httpx.DefaultPatience, Events: progress.Discard{}})
	fmt.Println(res.Where, res.Sent, res.Manifest == release.Digest(encoded), err)
	// Output: memory/1.4.0 1 true <nil>
}
