package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// another measures what one more package format costs for two platforms that are
// packed already. The programs are taken as they are, so that packing is all
// there is to do.
func (b *bench) another() error {
	from, err := b.generated()
	if err != nil {
		return err
	}
	dir := filepath.Join(b.dir, "another")
	build := `for p in one two three four; do for a in amd64 arm64; do CGO_ENABLED=0 GOOS=linux GOARCH=$a go build -trimpath -o "$1/dist/$a/$p" ./cmd/$p; done; done`
	if _, err := measure(from, nil, "bash", "-ec", build, "bash", dir); err != nil {
		return err
	}
	if err := describeAnother(dir, "tar.gz", "deb"); err != nil {
		return err
	}
	if err := commit(dir, "v1.0.0"); err != nil {
		return err
	}
	// A preview from the beginning, so that names stay; and files that are old
	// enough for their digests to be remembered.
	if err := os.WriteFile(filepath.Join(dir, "new"), nil, 0o644); err != nil {
		return err
	}
	time.Sleep(3 * time.Second)
	for _, one := range []struct{ format, bundles, want string }{
		{"rpm", "tar.gz", "≤ 0.10"},
		{"apk", "tar.gz", "≤ 0.10"},
		{"arch", "tar.zst", "≤ 0.10"},
		{"arch", "tar.gz", "≤ 0.10"},
	} {
		var first, added []time.Duration
		for range 7 {
			if err := removeAll(filepath.Join(dir, ".piedmont", "store"), filepath.Join(dir, "outbox")); err != nil {
				return err
			}
			for _, step := range []struct {
				formats []string
				took    *[]time.Duration
			}{{[]string{"deb"}, &first}, {[]string{"deb", one.format}, &added}} {
				if err := describeAnother(dir, one.bundles, step.formats...); err != nil {
					return err
				}
				u, err := measure(dir, nil, b.piedmont, "make", "--jobs", jobs)
				if err != nil {
					return err
				}
				*step.took = append(*step.took, u.wall)
			}
		}
		slices.Sort(first)
		slices.Sort(added)
		a, f := added[len(added)/2], first[len(first)/2]
		b.add(fmt.Sprintf("one more format, %s, for two platforms, beside packing them the first time (8 bundles as %s, 2 debs)", one.format, one.bundles), seconds(a), seconds(f), ratio(a, f), one.want)
	}
	return nil
}

// describeAnother writes a description with a bundle for each program, and a
// package with all of them in these formats.
func describeAnother(dir, bundles string, formats ...string) error {
	text := "[project]\nname = \"bells\"\nsummary = \"Bells\"\nlicense = \"Apache-2.0\"\nmaintainer = \"Ines <ines@ridge-signals.example>\"\n"
	for _, name := range []string{"one", "two", "three", "four"} {
		text += fmt.Sprintf("[program.%s]\nlanguage = \"prebuilt\"\nsource = \"dist/{arch}/%[1]s\"\nplatforms = [\"linux/amd64\", \"linux/arm64\"]\n[bundle.%[1]s]\nprograms = [\"%[1]s\"]\nname = \"%[1]s-{version}-{arch}\"\nformats = [%q]\n", name, bundles)
	}
	text += "[package.bells]\nformats = [\"" + strings.Join(formats, "\", \"") + "\"]\nprograms = [\"one\", \"two\", \"three\", \"four\"]\n"
	return os.WriteFile(filepath.Join(dir, "piedmont.toml"), []byte(text), 0o644)
}
