package toolchain

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"piedmont/internal/base/platform"
)

// target is a platform that Debian has a cross compiler for.
type target struct {
	triplet string
	// Debian's packages with the C compiler, the C++ compiler, and the C library to link with.
	c, cxx, libc string
}

// debian maps platforms to targets. Names: Debian's multiarch triplets, and
// those of its mingw-w64 packages.
var debian = map[string]target{
	"linux/amd64": {"x86_64-linux-gnu", "gcc-x86-64-linux-gnu", "g++-x86-64-linux-gnu", "libc6-dev-amd64-cross"},
	"linux/386":   {"i686-linux-gnu", "gcc-i686-linux-gnu", "g++-i686-linux-gnu", "libc6-dev-i386-cross"},
	"linux/arm64": {"aarch64-linux-gnu", "gcc-aarch64-linux-gnu", "g++-aarch64-linux-gnu", "libc6-dev-arm64-cross"},
	"linux/arm": {"arm-linux-gnueabihf", "gcc-arm-linux-gnueabihf", "g++-arm-linux-gnueabihf",
		"libc6-dev-armhf-cross"},
	"linux/arm/v7": {"arm-linux-gnueabihf", "gcc-arm-linux-gnueabihf", "g++-arm-linux-gnueabihf",
		"libc6-dev-armhf-cross"},
	"linux/arm/v5":  {"arm-linux-gnueabi", "gcc-arm-linux-gnueabi", "g++-arm-linux-gnueabi", "libc6-dev-armel-cross"},
	"linux/riscv64": {"riscv64-linux-gnu", "gcc-riscv64-linux-gnu", "g++-riscv64-linux-gnu", "libc6-dev-riscv64-cross"},
	"linux/ppc64le": {"powerpc64le-linux-gnu", "gcc-powerpc64le-linux-gnu", "g++-powerpc64le-linux-gnu",
		"libc6-dev-ppc64el-cross"},
	"linux/s390x":   {"s390x-linux-gnu", "gcc-s390x-linux-gnu", "g++-s390x-linux-gnu", "libc6-dev-s390x-cross"},
	"windows/amd64": {"x86_64-w64-mingw32", "gcc-mingw-w64-x86-64", "g++-mingw-w64-x86-64", ""},
	"windows/386":   {"i686-w64-mingw32", "gcc-mingw-w64-i686", "g++-mingw-w64-i686", ""},
}

// targetOf finds the target of a platform. Where the variant only asks for
// more of the same processor, it is that of the platform without one.
func targetOf(on platform.Platform) (target, bool) {
	if t, ok := debian[on.String()]; ok {
		return t, true
	}
	if on.Arch == "arm" && on.Variant == "v6" {
		return target{}, false // Debian's C library needs v7, or no hardware for floats
	}
	t, ok := debian[on.Base()]
	return t, ok
}

// variantFlags select a platform's variant. Sources: GCC manual, "Machine-Dependent Options".
func variantFlags(on platform.Platform) []string {
	flag := map[string]string{
		"amd64/v2": "-march=x86-64-v2", "amd64/v3": "-march=x86-64-v3", "amd64/v4": "-march=x86-64-v4",
		"arm/v5": "-march=armv5te", "arm/v6": "-march=armv6+fp", "arm/v7": "-march=armv7-a+fp",
		"arm64/v9": "-march=armv9-a", "386/sse2": "-msse2",
		"ppc64le/power9": "-mcpu=power9", "ppc64le/power10": "-mcpu=power10",
	}[on.Arch+"/"+on.Variant]
	if flag == "" {
		return nil
	}
	return []string{flag}
}

// fromSystem looks for a compiler that needs no description.
func fromSystem(on platform.Platform) (*Compiler, error) {
	host := platform.Host()
	if host.OS == "darwin" && on.OS == "darwin" {
		return apple(on)
	}
	t, known := targetOf(on)
	native := on.Base() == host.Base() && on.Arch != "arm"
	if known {
		c := &Compiler{Platform: on, Triplet: t.triplet, Tools: map[string]string{}, Flags: variantFlags(on),
			From: "Debian's " + t.c}
		for tool, program := range gnuNames {
			c.Tools[tool] = executable("", t.triplet+"-"+program)
		}
		if c.Tools["cc"] != "" {
			if native {
				c.From = "this system"
			}
			c.Sysroot = debianSysroot(t.triplet, on)
			return c, nil
		}
	}
	if native {
		if c := plain(on, t.triplet); c != nil {
			return c, nil
		}
		return nil, Missing("there is no C compiler for this machine itself", nativeMend())
	}
	mend := fmt.Sprintf("describe one with [toolchain.NAME] platforms = [%q]", on)
	if known {
		packages := t.c
		if t.libc != "" {
			packages += " " + t.libc
		}
		mend = "on Debian: apt-get install " + packages + "; elsewhere " + mend
	}
	return nil, Missing(fmt.Sprintf("there is no C compiler for %s", on), mend)
}

func nativeMend() string {
	if runtime.GOOS == "linux" {
		return "on Debian: apt-get install gcc libc6-dev"
	}
	return "install one, so that \"cc\" is on PATH"
}

// plain takes the system's own compiler under its common names.
func plain(on platform.Platform, triplet string) *Compiler {
	c := &Compiler{Platform: on, Triplet: triplet, Flags: variantFlags(on), From: "this system",
		Tools: map[string]string{
			"ar": executable("", "ar"), "ranlib": executable("", "ranlib"), "strip": executable("", "strip"),
			"nm":      executable("", "nm"),
			"objcopy": executable("", "objcopy"), "ld": executable("", "ld"), "windres": executable("", "windres"),
		}}
	for tool, names := range map[string][]string{"cc": {"cc", "gcc", "clang"}, "cxx": {"c++", "g++", "clang++"}} {
		for _, name := range names {
			if c.Tools[tool] == "" {
				c.Tools[tool] = executable("", name)
			}
		}
	}
	if c.Tools["cc"] == "" {
		return nil
	}
	return c
}

// apple compiles for both processors of macOS with the one compiler there.
func apple(on platform.Platform) (*Compiler, error) {
	arch := map[string]string{"amd64": "x86_64", "arm64": "arm64"}[on.Arch]
	c := plain(on, arch+"-apple-darwin")
	if c == nil || arch == "" {
		return nil, Missing("there is no C compiler for this machine itself",
			"install the command line tools: xcode-select --install")
	}
	c.Flags = append(c.Flags, "-arch", arch)
	return c, nil
}

// debianSysroot is where the cross compilers' C library is, for emulators.
func debianSysroot(triplet string, on platform.Platform) string {
	if on.OS != "linux" {
		return ""
	}
	dir := filepath.Join("/usr", triplet)
	if _, err := os.Stat(filepath.Join(dir, "lib")); err != nil {
		return ""
	}
	return dir
}

// SystemSysroot is the folder with the loader and libraries of a platform that
// Debian's cross compilers brought, "" when there is none.
func SystemSysroot(on platform.Platform) string {
	t, ok := targetOf(on)
	if !ok {
		return ""
	}
	return debianSysroot(t.triplet, on)
}

// Packages names Debian's packages that compile C++ for a platform, or C.
func Packages(on platform.Platform, cxx bool) []string {
	t, ok := targetOf(on)
	if !ok {
		return nil
	}
	out := []string{t.c}
	if cxx {
		out[0] = t.cxx
	}
	if t.libc != "" && on.Base() != platform.Host().Base() {
		out = append(out, t.libc)
	}
	return slices.Clip(out)
}
