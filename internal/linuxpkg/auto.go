package linuxpkg

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/format/exe"
)

// libraries are those that come with every distribution, with the packages that
// have them: Debian's and Arch's names. rpm and apk name libraries themselves.
var libraries = map[string]struct{ debian, arch string }{
	"libc.so.6":        {"libc6", "glibc"},
	"libm.so.6":        {"libc6", "glibc"},
	"libpthread.so.0":  {"libc6", "glibc"},
	"libdl.so.2":       {"libc6", "glibc"},
	"librt.so.1":       {"libc6", "glibc"},
	"libresolv.so.2":   {"libc6", "glibc"},
	"libutil.so.1":     {"libc6", "glibc"},
	"libgcc_s.so.1":    {"libgcc-s1", "gcc-libs"},
	"libstdc++.so.6":   {"libstdc++6", "gcc-libs"},
	"libatomic.so.1":   {"libatomic1", "gcc-libs"},
	"libgomp.so.1":     {"libgomp1", "gcc-libs"},
	"libz.so.1":        {"zlib1g", "zlib"},
	"libzstd.so.1":     {"libzstd1", "zstd"},
	"liblzma.so.5":     {"liblzma5", "xz"},
	"libbz2.so.1.0":    {"libbz2-1.0", "bzip2"},
	"libssl.so.3":      {"libssl3", "openssl"},
	"libcrypto.so.3":   {"libssl3", "openssl"},
	"libsystemd.so.0":  {"libsystemd0", "systemd-libs"},
	"libcurl.so.4":     {"libcurl4", "curl"},
	"libsqlite3.so.0":  {"libsqlite3-0", "sqlite"},
	"libncursesw.so.6": {"libncursesw6", "ncurses"},
	"libtinfo.so.6":    {"libtinfo6", "ncurses"},
	"libreadline.so.8": {"libreadline8", "readline"},
	"libudev.so.1":     {"libudev1", "systemd-libs"},
	"libX11.so.6":      {"libx11-6", "libx11"},
}

// DebianLibrary and ArchLibrary name the package that has a library; "" when that
// is not known.
func DebianLibrary(lib string) string { return libraries[lib].debian }

// ArchLibrary is the same for Arch.
func ArchLibrary(lib string) string { return libraries[lib].arch }

// NeededLibraries calls each with every library that programs need, but for the
// loader, and with the program.
func NeededLibraries(programs []*exe.Info, each func(lib string, program *exe.Info) error) error {
	for _, i := range programs {
		for _, lib := range i.Needs {
			if strings.HasPrefix(lib, "ld-linux") || strings.HasPrefix(lib, "ld64.so") {
				continue
			}
			if err := each(lib, i); err != nil {
				return err
			}
		}
	}
	return nil
}

// UnknownLibrary is the error for a library whose package is not known.
func UnknownLibrary(format, lib string) error {
	return fmt.Errorf("it is not known which %s package has the library %s: take \"auto\" out for that "+
		"format and name the package, as in [package.NAME.%s] needs = [...]", format, lib, format)
}

// AddOnce adds a relation that is not in the list yet.
func AddOnce(list []Relation, r Relation) []Relation {
	if slices.ContainsFunc(list, func(o Relation) bool { return o.String() == r.String() }) {
		return list
	}
	return append(list, r)
}
