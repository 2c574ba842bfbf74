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
	build := `export CGO_ENABLED=0 GOOS=linux
for p in one two three four; do for a in amd64 arm64; do
	GOARCH=$a go build -trimpath -o "$1/dist/$a/$p" ./cmd/$p
done; done`
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
	for _, one := range []struct{ format, bundles string }{
		{"rpm", "tar.gz"},
		{"apk", "tar.gz"},
		{"arch", "tar.zst"},
		{"arch", "tar.gz"},
	} {
		var first, added, firstCPU, addedCPU []time.Duration
		for range 7 {
			if err := removeAll(filepath.Join(dir, ".piedmont", "store"), filepath.Join(dir, "outbox")); err != nil {
				return err
			}
			for _, step := range []struct {
				formats   []string
				wall, cpu *[]time.Duration
			}{{[]string{"deb"}, &first, &firstCPU}, {[]string{"deb", one.format}, &added, &addedCPU}} {
				if err := describeAnother(dir, one.bundles, step.formats...); err != nil {
					return err
				}
				u, err := measure(dir, nil, b.piedmont, "make", "--jobs", jobs)
				if err != nil {
					return err
				}
				*step.wall, *step.cpu = append(*step.wall, u.wall), append(*step.cpu, u.cpu)
			}
		}
		what := fmt.Sprintf("one more format, %s, for two platforms, beside packing them the first time (8 "+
			"bundles as %s, 2 debs)", one.format, one.bundles)
		a, f := mid(added), mid(first)
		b.add(what, seconds(a), seconds(f), ratio(a, f), "≤ 0.10")
		a, f = mid(addedCPU), mid(firstCPU)
		b.add("the same as processor time", seconds(a), seconds(f), ratio(a, f), "")
	}
	return nil
}

// mid is the median.
func mid(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

// describeAnother writes a description with a bundle for each program, and a
// package with all of them in these formats.
func describeAnother(dir, bundles string, formats ...string) error {
	text := "[project]\nname = \"bells\"\nsummary = \"Bells\"\nlicense = \"Apache-2.0\"\nmaintainer = " +
		"\"Ines <ines@ridge-signals.example>\"\n"
	for _, name := range []string{"one", "two", "three", "four"} {
		text += fmt.Sprintf("[program.%s]\nlanguage = \"prebuilt\"\nsource = "+
			"\"dist/{arch}/%[1]s\"\nplatforms = [\"linux/amd64\", "+
			"\"linux/arm64\"]\n[bundle.%[1]s]\nprograms = [\"%[1]s\"]\nname = "+
			"\"%[1]s-{version}-{arch}\"\nformats = [%q]\n", name, bundles)
	}
	text += "[package.bells]\nformats = [\"" + strings.Join(formats, "\", \"") +
		"\"]\nprograms = [\"one\", \"two\", \"three\", \"four\"]\n"
	return os.WriteFile(filepath.Join(dir, "piedmont.toml"), []byte(text), 0o644)
}
