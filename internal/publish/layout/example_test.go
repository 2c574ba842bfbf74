package layout_test

import (
	"context"
	"fmt"
	"strings"
	"time"

	"piedmont/internal/publish/layout"
	"piedmont/internal/publish/remote/memory"
	"piedmont/internal/release"
)

// Any store of files carries releases; a release is there when its record is.
func ExampleLayout() {
	ctx := context.Background()
	m := &release.Manifest{Format: release.Format, Project: release.Project{Name: "hutbell"}, Version: "1.4.0",
		Commit: release.Commit{ID: strings.Repeat("ab", 20)},
		Files: []release.Artifact{{Name: "notes.md", Kind: release.KindNotes, Size: 4,
			SHA256: "ae05d0f55e0e8a78ef5aeaed85bfb6eb5a24e2b8b9b1d5cce77ea7cf77a5a9b3",
			SHA512: strings.Repeat("0", 128)}}}
	encoded, _ := m.Encode()
	releases := layout.On(&memory.FS{})
	d, err := releases.Begin(ctx, encoded)
	fmt.Println(d.Public, err)
	_, err = d.Put(ctx, "notes.md", 0, strings.NewReader("rung"))
	fmt.Println(err != nil) // other bytes than the manifest's
	_, err = d.Publish(ctx, time.Now())
	fmt.Println(err)
	// Output:
	// false <nil>
	// true
	// the draft is not complete: notes.md missing
}
