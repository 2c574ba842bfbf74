package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// packaged is a copy of the generated project that comes as packages, too.
func (b *bench) packaged(name, formats, platforms string) (string, error) {
	from, err := b.generated()
	if err != nil {
		return "", err
	}
	dir := filepath.Join(b.dir, name)
	if _, err := measure(b.dir, nil, "git", "clone", "--quiet", from, dir); err != nil {
		return "", err
	}
	return dir, describePackages(dir, formats, platforms)
}

func describePackages(dir, formats, platforms string) error {
	text := strings.Replace(description, "name = \"bells\"\n", `name = "bells"
summary = "Bells for huts"
license = "Apache-2.0"
maintainer = "Ines <ines@ridge-signals.example>"

[package.bells]
formats = [`+formats+`]
platforms = [`+platforms+`]
programs = ["one", "two", "three", "four"]
files = [{ from = "README.md", to = "/usr/share/doc/bells/" }]
`, 1)
	return os.WriteFile(filepath.Join(dir, "piedmont.toml"), []byte(text), 0o644)
}

// packagesByHand makes the packages with the systems' own tools; what has no
// tool here is at least packed and compressed.
const packagesByHand = `
packages() {
	p=$1; arch=${p#*/}; d=$out/linux-$arch; r=$out/root-$arch
	rm -rf "$r"; mkdir -p "$r/usr/bin" "$r/usr/share/doc/bells"
	cp "$d"/one "$d"/two "$d"/three "$d"/four "$r/usr/bin/"; cp README.md "$r/usr/share/doc/bells/"
}
deb() {
	arch=$1; r=$out/root-$arch; x=$out/deb-$arch; rm -rf "$x"; cp -r "$r" "$x"; mkdir "$x/DEBIAN"
	printf '%s\n' 'Package: bells' 'Version: 1.0.0-1' "Architecture: $arch" \
		'Maintainer: Ines <ines@ridge-signals.example>' 'Description: Bells for huts' >"$x/DEBIAN/control"
	dpkg-deb -Zgzip -z9 --root-owner-group --build "$x" "$out/files/bells_1.0.0-1_$arch.deb" >/dev/null
}
rpm() {
	arch=$1; r=$out/root-$arch; case $arch in amd64) target=x86_64 ;; *) target=aarch64 ;; esac
	printf '%s\n' '%define _binary_payload w9.gzdio' '%define __strip /bin/true' '%define _build_id_links none' \
		'%define debug_package %{nil}' '%define __os_install_post %{nil}' 'Name: bells' 'Version: 1.0.0' \
		'Release: 1' 'Summary: Bells for huts' 'License: Apache-2.0' 'AutoReqProv: no' '%description' 'Bells' \
		'%install' "cp -r $r/usr %{buildroot}/" '%files' '/usr' >"$out/bells-$arch.spec"
	rpmbuild -bb --quiet --target "$target-linux" --define "_topdir $out/rpm-$arch" \
		--define "_rpmdir $out/files" "$out/bells-$arch.spec" >/dev/null 2>&1
}
plain() { tar -C "$out/root-$1" -c usr | gzip -9 >"$out/files/bells-$1.$2"; }
export -f packages deb rpm plain
cd "$2"
for p in linux/amd64 linux/arm64; do packages $p; done
for a in amd64 arm64; do
	printf '%s\n' "deb $a" "rpm $a" "plain $a apk" "plain $a arch.gz"
done | xargs -d '\n' -P JOBS -I{} bash -ec '{}'
cd "$out/files" && find . -type f | xargs sha256sum >SHA256SUMS
`

// packages: bundles for six platforms and packages of four formats for two.
func (b *bench) packages() error {
	project, err := b.packaged("packaged", `"deb", "rpm", "apk", "arch"`, `"linux/amd64", "linux/arm64"`)
	if err != nil {
		return err
	}
	out := filepath.Join(b.dir, "hand-packages")
	script := strings.NewReplacer("PLATFORMS", strings.Join(platforms, " "), "JOBS", jobs).Replace(byHand +
		packagesByHand)
	hand := func() (usage, error) { return measure(project, nil, "bash", "-ec", script, "bash", out, project) }
	clear := func() error {
		return removeAll(filepath.Join(project, ".piedmont", "store"), filepath.Join(project, "outbox"))
	}
	var peak int64
	ours := func() (usage, error) {
		u, err := measure(project, nil, b.piedmont, "make", "--jobs", jobs)
		peak = max(peak, u.peak)
		return u, err
	}
	handTook, oursTook, err := beside(hand, ours, clear)
	if err != nil {
		return err
	}
	handSize, err := releaseSize(filepath.Join(out, "files"))
	if err != nil {
		return err
	}
	version, err := filepath.Glob(filepath.Join(project, "outbox", "[0-9]*"))
	if err != nil || len(version) == 0 {
		return fmt.Errorf("nothing was made")
	}
	oursSize, err := releaseSize(version[0])
	if err != nil {
		return err
	}
	b.add(fmt.Sprintf("18 bundles, 2 source archives, and packages of 4 formats for 2 platforms: make "+
		"beside the same with `dpkg-deb`, `rpmbuild`; peak memory %s", mib(peak)), seconds(oursTook),
		seconds(handTook), ratio(oursTook, handTook), "≤ 0.35, ≤ 200 MiB")
	b.add("their total size", mib(oursSize), mib(handSize),
		fmt.Sprintf("%.3f", float64(oursSize)/float64(handSize)), "≤ 1.03")
	return nil
}

// releaseSize adds up all files of a release but the records.
func releaseSize(dir string) (int64, error) {
	var total int64
	err := filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() || strings.HasPrefix(info.Name(), "SHA256") ||
			filepath.Ext(path) == ".json" || filepath.Ext(path) == ".md" {
			return err
		}
		total += info.Size()
		return nil
	})
	return total, err
}
