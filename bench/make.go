package main

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// jobs is how many of the bare calls run at once; Piedmont gets the same.
const jobs = "2"

// bare compiles for every platform with nothing but the Go tool.
func bare(project, out string, env []string, sources string) (usage, error) {
	script := fmt.Sprintf(
		`export CGO_ENABLED=0 GOFLAGS=-buildvcs=false
printf '%%s\n' %s | xargs -P %s -I{} sh -ec 'p={}; mkdir -p %s/$p
GOOS=${p%%/*} GOARCH=${p#*/} go build -trimpath -p %s -o %s/$p/ %s'`,
		strings.Join(platforms, " "), jobs, out, jobs, out, sources)
	return measure(project, env, "sh", "-ec", script)
}

// cold: nothing is compiled yet, not even the standard library.
func (b *bench) cold() error {
	project, err := b.generated()
	if err != nil {
		return err
	}
	cache := filepath.Join(b.dir, "cache")
	env := []string{"GOCACHE=" + cache}
	out := filepath.Join(b.dir, "bare")
	clear := func() error {
		return removeAll(cache, out, filepath.Join(project, ".piedmont"), filepath.Join(project, "outbox"))
	}
	if err := clear(); err != nil {
		return err
	}
	hand, err := bare(project, out, env, "./cmd/one ./cmd/two ./cmd/three ./cmd/four")
	if err != nil {
		return err
	}
	if err := clear(); err != nil {
		return err
	}
	ours, err := measure(project, env, b.piedmont, "make", "--jobs", jobs)
	if err != nil {
		return err
	}
	b.add("empty build cache, 6 platforms, 4 programs: make, with packing, beside bare `go build`",
		seconds(ours.wall), seconds(hand.wall), ratio(ours.wall, hand.wall), "≤ 1.05")
	return clear()
}

// byHand does what make does, with ordinary tools on all cores.
const byHand = `
out=$1; rm -rf "$out/files"; mkdir -p "$out/files"
one() {
	p=$1; os=${p%/*}; arch=${p#*/}; d=$out/$os-$arch; mkdir -p "$d"
	export CGO_ENABLED=0 GOFLAGS=-buildvcs=false GOOS=$os GOARCH=$arch
	go build -trimpath -o "$d/" ./cmd/one ./cmd/two ./cmd/three ./cmd/four
	cp README.md "$d/"
}
export -f one; export out
printf '%s\n' PLATFORMS | xargs -P JOBS -I{} bash -ec 'one {}'
{
	for d in "$out"/*-*/; do
		n=$(basename "$d"); x=
		case $n in
		windows-*)
			echo "cd $d && zip -q -9 $out/files/pair-$n.zip one.exe two.exe README.md"
			echo "cd $d && zip -q -9 $out/files/three-$n.zip three.exe"
			echo "cd $d && zip -q -9 $out/files/four-$n.zip four.exe" ;;
		*)
			echo "tar -C $d -c one two README.md | gzip -9 >$out/files/pair-$n.tar.gz"
			echo "tar -C $d -c three | gzip -9 >$out/files/three-$n.tar.gz"
			echo "tar -C $d -c four | gzip -9 >$out/files/four-$n.tar.gz" ;;
		esac
	done
	echo "git archive --prefix=bells/ HEAD | gzip -9 >$out/files/source.tar.gz"
	echo "git archive --format=zip -9 --prefix=bells/ -o $out/files/source.zip HEAD"
} | xargs -d '\n' -P JOBS -I{} bash -ec '{}'
cd "$out/files" && sha256sum * >SHA256SUMS
`

// warm: everything is compiled, nothing is packed.
func (b *bench) warm() error {
	project, err := b.generated()
	if err != nil {
		return err
	}
	out := filepath.Join(b.dir, "hand")
	script := strings.NewReplacer("PLATFORMS", strings.Join(platforms, " "), "JOBS", jobs).Replace(byHand)
	hand := func() (usage, error) { return measure(project, nil, "bash", "-ec", script, "bash", out) }
	// The programs stay where the compiler left them, on both sides.
	clear := func() error {
		return removeAll(filepath.Join(project, ".piedmont", "store"), filepath.Join(project, "outbox"))
	}
	ours := func() (usage, error) { return measure(project, nil, b.piedmont, "make", "--jobs", jobs) }
	handTook, oursTook, err := beside(hand, ours, clear)
	if err != nil {
		return err
	}
	handSize, err := size(filepath.Join(out, "files"))
	if err != nil {
		return err
	}
	oursSize, err := size(filepath.Join(project, "outbox", "1.0.0"))
	if err != nil {
		return err
	}
	b.add("warm build cache, 18 bundles, 2 source archives: make beside `go build`, `tar \\| gzip -9`, `zip "+
		"-9`, `sha256sum`", seconds(oursTook), seconds(handTook), ratio(oursTook, handTook), "≤ 0.50")
	b.add("their total size", mib(oursSize), mib(handSize),
		fmt.Sprintf("%.3f", float64(oursSize)/float64(handSize)), "≤ 1.03")
	return nil
}

// size adds up the archives of a folder.
func size(dir string) (int64, error) {
	var total int64
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || (!strings.HasSuffix(path, ".gz") && !strings.HasSuffix(path, ".zip")) {
			return err
		}
		info, err := d.Info()
		total += info.Size()
		return err
	})
	return total, err
}

func mib(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

// clone: everything is compiled, and the clone is fresh: every program is linked
// and packed, as on a machine that keeps the build cache and nothing else.
func (b *bench) clone() error {
	project, err := b.generated()
	if err != nil {
		return err
	}
	out := filepath.Join(b.dir, "linked")
	hand := func() (usage, error) {
		return bare(project, out, nil, "./cmd/one ./cmd/two ./cmd/three ./cmd/four")
	}
	clear := func() error {
		return removeAll(out, filepath.Join(project, ".piedmont"), filepath.Join(project, "outbox"))
	}
	ours := func() (usage, error) { return measure(project, nil, b.piedmont, "make", "--jobs", jobs) }
	for _, first := range []func() (usage, error){hand, ours} {
		if _, err := first(); err != nil {
			return err
		}
	}
	handTook, err := median(3, clear, hand)
	if err != nil {
		return err
	}
	oursTook, err := median(3, clear, ours)
	if err != nil {
		return err
	}
	b.add("warm build cache in a fresh clone, 24 programs to link: make, with packing, beside bare `go build`",
		seconds(oursTook), seconds(handTook), ratio(oursTook, handTook), "≤ 1.30")
	return nil
}

// same: nothing changed since the last run.
func (b *bench) same() error {
	for _, p := range []struct {
		name string
		make func() (string, error)
	}{{"23 files of the generated project", b.generated}, {"the files of the sample project", b.demo}} {
		project, err := p.make()
		if err != nil {
			return err
		}
		ours := func() (usage, error) { return measure(project, nil, b.piedmont, "make", "--jobs", jobs) }
		for range 2 { // the second lets git refresh its index
			if _, err := ours(); err != nil {
				return err
			}
		}
		took, err := median(7, func() error { return nil }, ours)
		if err != nil {
			return err
		}
		b.add("nothing changed, "+p.name, fmt.Sprintf("%d ms", took.Milliseconds()), "", "", "≤ 150 ms")
	}
	return nil
}

// help: how long the program takes to answer at all.
func (b *bench) help() error {
	took, err := median(21, func() error { return nil },
		func() (usage, error) { return measure(b.dir, nil, b.piedmont, "--help") })
	if err != nil {
		return err
	}
	info, err := os.Stat(b.piedmont)
	if err != nil {
		return err
	}
	b.add("`piedmont --help`; the program has "+mib(info.Size()), fmt.Sprintf("%d ms", took.Milliseconds()), "",
		"", "< 50 ms")
	return nil
}
