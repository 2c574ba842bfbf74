package preflight

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/lang"
	"piedmont/internal/make/outbox"
	"piedmont/internal/plan"
)

var toolchainCheck = Check{"toolchain", func(ctx context.Context, p *Project) []Finding {
	if p.Plan == nil {
		return nil
	}
	var builds []plan.Build
	for _, b := range p.Plan.Builds {
		if b.Go != nil {
			builds = append(builds, b)
		}
	}
	if len(builds) == 0 {
		return ok("no Go is compiled")
	}
	var dirs []string
	var out []Finding
	version := ""
	for _, b := range builds {
		if !slices.Contains(dirs, b.Dir) {
			dirs = append(dirs, b.Dir)
			dir := filepath.Join(p.Config.Dir, b.Dir)
			t, err := p.Tools.Find(ctx, dir)
			if err == nil {
				err = t.CheckModule(dir)
			}
			switch {
			case errors.Is(err, lang.ErrNoGo):
				return obstacle("the Go toolchain is not on PATH", "install Go, or add its bin folder to PATH")
			case err != nil:
				// Such as a go.mod that wants a newer Go than may be used here.
				out = append(out, obstacle(err.Error(), "install the Go version that "+filepath.Join(b.Dir, "go.mod")+" asks for, or let Go fetch it: go env -w GOTOOLCHAIN=auto")...)
				continue
			}
			version = t.Version
		}
	}
	if len(out) > 0 {
		return out
	}
	var targets []string
	for _, b := range builds {
		if slices.Contains(targets, b.Target) {
			continue
		}
		targets = append(targets, b.Target)
		if err := p.Tools.Try(ctx, filepath.Join(p.Config.Dir, b.Dir), b.Platform); err != nil {
			out = append(out, obstacle(fmt.Sprintf("a trivial program does not compile for %s: %v", b.Target, err), "see what is missing with: go env; leave the platform out if it cannot be made here")...)
		}
	}
	if len(out) > 0 {
		return out
	}
	return ok(fmt.Sprintf("%s compiles for %s", version, platforms(targets)))
}}

// platforms names a few, or counts many.
func platforms(list []string) string {
	if len(list) > 4 {
		return fmt.Sprintf("all %d platforms", len(list))
	}
	return strings.Join(list, ", ")
}

// least is the room that a release needs in any case, in bytes.
const least = 256 << 20

var spaceCheck = Check{"space", func(_ context.Context, p *Project) []Finding {
	free, err := freeSpace(p.Config.Dir)
	if err != nil {
		return ok("the free space is not known on this system")
	}
	need := uint64(least)
	if used, err := largest(filepath.Join(p.Config.Dir, outbox.Name)); err == nil {
		need = max(need, 3*used)
	}
	if free < need {
		return obstacle(fmt.Sprintf("%d MiB are free where the outbox is, a release needs about %d MiB", free>>20, need>>20), "make room; old releases in "+outbox.Name+"/ and the store in "+outbox.WorkDir+"/ can be removed")
	}
	return ok(fmt.Sprintf("%d GiB are free", free>>30))
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
