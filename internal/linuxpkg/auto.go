package linuxpkg

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/format/exe"
)

// libraries maps libraries that come with every distribution to Debian's and
// Arch's packages; rpm and apk name libraries themselves.
var libraries = map[string][2]string{
	"libc.so.6": {"libc6", "glibc"}, "libm.so.6": {"libc6", "glibc"}, "libpthread.so.0": {"libc6", "glibc"}, "libdl.so.2": {"libc6", "glibc"},
	"librt.so.1": {"libc6", "glibc"}, "libresolv.so.2": {"libc6", "glibc"}, "libutil.so.1": {"libc6", "glibc"},
	"libgcc_s.so.1": {"libgcc-s1", "gcc-libs"}, "libstdc++.so.6": {"libstdc++6", "gcc-libs"}, "libatomic.so.1": {"libatomic1", "gcc-libs"}, "libgomp.so.1": {"libgomp1", "gcc-libs"},
	"libz.so.1": {"zlib1g", "zlib"}, "libzstd.so.1": {"libzstd1", "zstd"}, "liblzma.so.5": {"liblzma5", "xz"}, "libbz2.so.1.0": {"libbz2-1.0", "bzip2"},
	"libssl.so.3": {"libssl3", "openssl"}, "libcrypto.so.3": {"libssl3", "openssl"}, "libsystemd.so.0": {"libsystemd0", "systemd-libs"},
	"libcurl.so.4": {"libcurl4", "curl"}, "libsqlite3.so.0": {"libsqlite3-0", "sqlite"}, "libncursesw.so.6": {"libncursesw6", "ncurses"}, "libtinfo.so.6": {"libtinfo6", "ncurses"},
	"libreadline.so.8": {"libreadline8", "readline"}, "libudev.so.1": {"libudev1", "systemd-libs"}, "libX11.so.6": {"libx11-6", "libx11"},
}

// AutoNeeds lists the packages with the libraries that programs need.
func AutoNeeds(format string, programs []*exe.Info) ([]Relation, error) {
	var out []Relation
	add := func(name, op, version string) {
		r := Relation{Any: []Name{{name, op, version}}}
		if !slices.ContainsFunc(out, func(o Relation) bool { return o.String() == r.String() }) {
			out = append(out, r)
		}
	}
	for _, i := range programs {
		for _, lib := range i.Needs {
			switch {
			case strings.HasPrefix(lib, "ld-linux") || strings.HasPrefix(lib, "ld64.so"):
			case format == RPM:
				mark := "()(64bit)"
				if i.Bits == 32 {
					mark = ""
				}
				add(lib+mark, "", "")
			case format == APK:
				add("so:"+lib, "", "")
			case lib == "libc.so.6" && format == Deb && i.LibcAtLeast != "":
				add("libc6", ">=", i.LibcAtLeast)
			default:
				names, ok := libraries[lib]
				if !ok {
					return nil, fmt.Errorf("it is not known which %s package has the library %s: take \"auto\" out for that format and name the package, as in [package.NAME.%s] needs = [...]", format, lib, format)
				}
				name := names[0]
				if format == Arch {
					name = names[1]
				}
				if name != "libc6" || i.LibcAtLeast == "" {
					add(name, "", "")
				}
			}
		}
		if format == RPM && i.LibcAtLeast != "" {
			mark := "(64bit)"
			if i.Bits == 32 {
				mark = ""
			}
			add("libc.so.6(GLIBC_"+i.LibcAtLeast+")"+mark, "", "")
		}
	}
	return out, nil
}
