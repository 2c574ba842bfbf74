package expect

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
)

// loaders are where Linux systems have the loader of dynamic programs, by
// architecture: that of glibc. Musl's is /lib/ld-musl-ARCH.so.1 everywhere.
// Source: glibc, "shlib-versions" and the ABI supplements of the processors.
var loaders = map[string][]string{
	"amd64":   {"/lib64/ld-linux-x86-64.so.2"},
	"386":     {"/lib/ld-linux.so.2"},
	"arm":     {"/lib/ld-linux-armhf.so.3", "/lib/ld-linux.so.3"},
	"arm64":   {"/lib/ld-linux-aarch64.so.1"},
	"riscv64": {"/lib/ld-linux-riscv64-lp64d.so.1", "/lib/ld-linux-riscv64-lp64.so.1"},
	"ppc64le": {"/lib64/ld64.so.2"},
	"ppc64":   {"/lib64/ld64.so.1"},
	"s390x":   {"/lib/ld64.so.1"},
	"loong64": {"/lib64/ld-linux-loongarch-lp64d.so.1"},
}

// strangeLoader says that a program asks for a loader that systems of its
// platform do not have at that place, or another than was expected; "" when all
// is well.
func strangeLoader(i *exe.Info, on platform.Platform, e Expect) string {
	if i.Interpreter == "" {
		return ""
	}
	if e.Loader != "" {
		if i.Interpreter != e.Loader {
			return fmt.Sprintf("its loader is %s, and loader = %q was expected", i.Interpreter, e.Loader)
		}
		return ""
	}
	usual := loaders[i.Arch]
	if i.Format != exe.ELF || on.OS != "linux" || len(usual) == 0 || slices.Contains(usual, i.Interpreter) ||
		strings.HasPrefix(i.Interpreter, "/lib/ld-musl-") {
		return ""
	}
	return fmt.Sprintf("it starts only where there is a loader %s, and %s systems have theirs at %s; "+
		"declare it with expect = { loader = ... } if that is meant", i.Interpreter, on, usual[0])
}
