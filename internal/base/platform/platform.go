// Package platform names what a program runs on, written os/arch[/variant] as
// the OCI image specification writes it.
package platform

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
)

// Platform is one operating system and architecture; Variant is empty for most.
type Platform struct {
	OS, Arch, Variant string
}

// variants lists, for each architecture that has them, the variants that the
// Go toolchain can compile for and the environment variable that selects one.
// Source: "go help environment", section on architecture-specific variables.
var variants = map[string]struct {
	env    string
	values map[string]string
}{
	"386":     {"GO386", map[string]string{"sse2": "sse2", "softfloat": "softfloat"}},
	"amd64":   {"GOAMD64", map[string]string{"v1": "v1", "v2": "v2", "v3": "v3", "v4": "v4"}},
	"arm":     {"GOARM", map[string]string{"v5": "5", "v6": "6", "v7": "7"}},
	"arm64":   {"GOARM64", map[string]string{"v8": "v8.0", "v9": "v9.0"}},
	"ppc64le": {"GOPPC64", map[string]string{"power8": "power8", "power9": "power9", "power10": "power10"}},
	"riscv64": {"GORISCV64", map[string]string{"rva20u64": "rva20u64", "rva22u64": "rva22u64"}},
}

// all are the platforms that have a name: those of "go tool dist list", whose
// words the OCI image specification takes, and others that C is compiled for.
const all = `
aix/ppc64 android/386 android/amd64 android/arm android/arm64 darwin/amd64 darwin/arm64
dragonfly/amd64 freebsd/386 freebsd/amd64 freebsd/arm freebsd/arm64 freebsd/riscv64
illumos/amd64 ios/amd64 ios/arm64 js/wasm linux/386 linux/amd64 linux/arm linux/arm64
linux/loong64 linux/mips linux/mips64 linux/mips64le linux/mipsle linux/ppc64 linux/ppc64le
linux/riscv64 linux/s390x netbsd/386 netbsd/amd64 netbsd/arm netbsd/arm64 openbsd/386
openbsd/amd64 openbsd/arm openbsd/arm64 openbsd/ppc64 openbsd/riscv64 plan9/386 plan9/amd64
plan9/arm solaris/amd64 wasip1/wasm windows/386 windows/amd64 windows/arm windows/arm64
linux/sparc64 linux/armbe linux/arm64be linux/ppc linux/m68k linux/riscv32`

// All lists the known platforms, without variants.
func All() []string { return strings.Fields(all) }

// Known says whether os/arch has a name here.
func Known(base string) bool { return slices.Contains(All(), base) }

// Host is what this process runs on.
func Host() Platform { return Platform{OS: runtime.GOOS, Arch: runtime.GOARCH} }

// Parse reads os/arch or os/arch/variant. It checks the form only.
func Parse(s string) (Platform, error) {
	parts := strings.Split(s, "/")
	if len(parts) < 2 || len(parts) > 3 || slices.Contains(parts, "") {
		return Platform{}, fmt.Errorf("%q is not a platform: write os/arch or os/arch/variant, such as "+
			"\"linux/amd64\" or \"linux/arm/v7\"", s)
	}
	p := Platform{OS: parts[0], Arch: parts[1]}
	if len(parts) == 3 {
		p.Variant = parts[2]
	}
	return p, nil
}

// CheckVariant says whether the architecture has that variant; the error lists
// those that it has.
func (p Platform) CheckVariant() error {
	if p.Variant == "" {
		return nil
	}
	v, ok := variants[p.Arch]
	if !ok {
		return fmt.Errorf("%s has no variants: write %q", p.Arch, p.OS+"/"+p.Arch)
	}
	if _, ok := v.values[p.Variant]; !ok {
		return fmt.Errorf("%s has no variant %q: there are %s", p.Arch, p.Variant,
			strings.Join(variantNames(p.Arch), ", "))
	}
	return nil
}

func variantNames(arch string) []string {
	var names []string
	for name := range variants[arch].values {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// GoEnv returns the environment that makes the Go toolchain compile for p.
func (p Platform) GoEnv() []string {
	env := []string{"GOOS=" + p.OS, "GOARCH=" + p.Arch}
	if v, ok := variants[p.Arch]; ok && p.Variant != "" {
		env = append(env, v.env+"="+v.values[p.Variant])
	}
	return env
}

// String is the written form, os/arch[/variant].
func (p Platform) String() string {
	if p.Variant == "" {
		return p.OS + "/" + p.Arch
	}
	return p.OS + "/" + p.Arch + "/" + p.Variant
}

// Base is the platform without its variant, as the Go toolchain lists it.
func (p Platform) Base() string { return p.OS + "/" + p.Arch }

// Executable is the file name of a program on p.
func (p Platform) Executable(name string) string {
	if p.OS == "windows" {
		return name + ".exe"
	}
	return name
}
