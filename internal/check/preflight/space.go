package preflight

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"piedmont/internal/check"
	"piedmont/internal/release"
)

// least is the room that a release needs in any case, in bytes.
const least = 256 << 20

// Space is the check space.
var Space = check.Check{Name: "space", Run: func(_ context.Context, p *check.Project) []check.Finding {
	free, err := freeSpace(p.Doc.Dir)
	if err != nil {
		return check.Fine("the free space is not known on this system")
	}
	need := uint64(least)
	if used, err := largest(filepath.Join(p.Doc.Dir, release.OutboxDir)); err == nil {
		need = max(need, 3*used)
	}
	if free < need {
		return check.Stops(fmt.Sprintf("%d MiB are free where the outbox is, a release needs about %d MiB",
			free>>20, need>>20), "make room; old releases in "+
			release.OutboxDir+"/ and the store in "+release.WorkDir+"/ can be removed")
	}
	return check.Fine(fmt.Sprintf("%d GiB are free", free>>30))
}}

// largest gives the size of the largest release in the outbox.
func largest(dir string) (uint64, error) {
	versions, err := os.ReadDir(dir)
	var most uint64
	for _, v := range versions {
		var sum uint64
		_ = filepath.WalkDir(filepath.Join(dir, v.Name()), func(_ string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			info, err := d.Info()
			if err == nil {
				sum += uint64(info.Size())
			}
			return err
		})
		most = max(most, sum)
	}
	return most, err
}
