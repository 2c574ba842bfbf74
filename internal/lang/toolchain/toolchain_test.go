package toolchain

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/platform"
	"piedmont/internal/config"
)

func on(t *testing.T, s string) platform.Platform {
	t.Helper()
	p, err := platform.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// tools makes programs that answer for compilers.
func tools(t *testing.T, names ...string) string {
	t.Helper()
	dir := t.TempDir()
	for _, name := range names {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte("#!/bin/sh\necho "+filepath.Base(name)+" 1.0\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestFind(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	bin := tools(t, "aarch64-linux-gnu-gcc", "aarch64-linux-gnu-ar", "x86_64-w64-mingw32-gcc", "cc", "hill-gcc")
	t.Setenv("PATH", bin+":/usr/bin:/bin")
	folder := tools(t, "bin/hill-gcc", "bin/hill-ar", "special/cc")
	declared := []*Keys{
		{Name: "hill", Platforms: config.Platforms{List: []platform.Platform{on(t, "linux/riscv64"),
			on(t, "linux/arm/v6")}}, Triplet: "hill", Folder: folder, Flags: []string{"-mhill"},
			Env: map[string]string{"HOME_OF_HILL": "{folder}/x"}, Sysroot: "root"},
		{Name: "odd", Platforms: config.Platforms{List: []platform.Platform{on(t, "linux/riscv64")}},
			Folder: folder, Tools: map[string]string{"cc": "special/cc"}},
		{Name: "path", Platforms: config.Platforms{List: []platform.Platform{on(t, "linux/mips")}}, Triplet: "hill"},
		{Name: "gone", Platforms: config.Platforms{List: []platform.Platform{on(t, "linux/ppc")}}, Triplet: "gone"},
		{Name: "far", Platforms: config.Platforms{List: []platform.Platform{on(t, "linux/m68k")}},
			Triplet: "far", Archive: config.Texts{"https://tools.hutbell.example/far.tar.gz"},
			SHA256: strings.Repeat("0", 64)},
	}
	f := &Finder{Root: t.TempDir(), Declared: declared, Cache: t.TempDir()}
	for _, c := range []struct{ on, name, cc, flags, from string }{
		{"linux/arm64", "", filepath.Join(bin, "aarch64-linux-gnu-gcc"), "", "Debian's gcc-aarch64-linux-gnu"},
		{"linux/arm64/v9", "", filepath.Join(bin, "aarch64-linux-gnu-gcc"), "-march=armv9-a", "Debian's"},
		{"windows/amd64", "", filepath.Join(bin, "x86_64-w64-mingw32-gcc"), "", "Debian's gcc-mingw-w64-x86-64"},
		{"linux/riscv64", "", filepath.Join(folder, "bin/hill-gcc"), "-mhill", "[toolchain.hill]"},
		{"linux/riscv64", "odd", filepath.Join(folder, "special/cc"), "", "[toolchain.odd]"},
		{"linux/arm/v6", "", filepath.Join(folder, "bin/hill-gcc"), "-march=armv6+fp -mhill", "[toolchain.hill]"},
		{"linux/mips", "", filepath.Join(bin, "hill-gcc"), "", "[toolchain.path]"},
	} {
		got, err := f.Find(t.Context(), on(t, c.on), Options{Name: c.name})
		if err != nil {
			t.Errorf("%s: %v", c.on, err)
			continue
		}
		if got.Tools["cc"] != c.cc || strings.Join(got.Flags, " ") != c.flags || !strings.HasPrefix(got.From, c.from) {
			t.Errorf("%s: %+v", c.on, got)
		}
		if !strings.Contains(got.Version(), " 1.0") {
			t.Errorf("%s: version %q", c.on, got.Version())
		}
	}
	hill, err := f.Find(t.Context(), on(t, "linux/riscv64"), Options{Name: "hill"})
	if err != nil || hill.Sysroot != filepath.Join(folder, "root") ||
		strings.Join(hill.Env, "") != "HOME_OF_HILL="+folder+"/x" {
		t.Errorf("%+v, %v", hill, err)
	}
	if env := strings.Join(hill.Environment(), " "); !strings.Contains(env, "CC="+folder) ||
		!strings.Contains(env, "AR=") || strings.Contains(env, "CXX=") {
		t.Errorf("the environment: %s", env)
	}
	for _, c := range []struct{ on, name, what, mend string }{
		{"linux/s390x", "", "there is no C compiler for linux/s390x",
			"apt-get install gcc-s390x-linux-gnu libc6-dev-s390x-cross"},
		{"linux/arm/v6", "odd", "[toolchain.odd] does not have linux/arm/v6", "platforms"},
		{"freebsd/amd64", "", "there is no C compiler for freebsd/amd64",
			`[toolchain.NAME] platforms = ["freebsd/amd64"]`},
		{"linux/ppc", "", "[toolchain.gone] has no cc: there is no program gone-gcc on PATH", "[toolchain.gone]"},
	} {
		if c.on == "linux/s390x" {
			if _, err := os.Stat("/usr/bin/s390x-linux-gnu-gcc"); err == nil {
				continue
			}
		}
		_, err := f.Find(t.Context(), on(t, c.on), Options{Name: c.name})
		what, fix := fault.Parts(err)
		if !errors.Is(err, ErrMissing) || !strings.Contains(what, c.what) || !strings.Contains(fix, c.mend) ||
			!Unavailable(err) {
			t.Errorf("%s: %v", c.on, err)
		}
	}
	var unfetched *NotFetchedError
	if _, err := f.Find(t.Context(), on(t, "linux/m68k"), Options{Name: ""}); !errors.As(err, &unfetched) ||
		Unavailable(err) {
		t.Errorf("an archive that is still to be fetched: %v", err)
	}
}
