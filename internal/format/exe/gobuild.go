package exe

import (
	"debug/buildinfo"
	"io"
)

// goVariants maps, for each architecture, the setting that names its variant
// to how a platform writes it.
var goVariants = map[string]struct {
	setting string
	values  map[string]string
}{
	"arm": {"GOARM", map[string]string{"5": "v5", "6": "v6", "7": "v7", "5,softfloat": "v5",
		"5,hardfloat": "v5", "6,hardfloat": "v6", "6,softfloat": "v6", "7,hardfloat": "v7", "7,softfloat": "v7"}},
	"amd64":   {"GOAMD64", map[string]string{"v2": "v2", "v3": "v3", "v4": "v4"}},
	"arm64":   {"GOARM64", map[string]string{"v9.0": "v9"}},
	"386":     {"GO386", map[string]string{"softfloat": "softfloat"}},
	"ppc64le": {"GOPPC64", map[string]string{"power9": "power9", "power10": "power10"}},
	"riscv64": {"GORISCV64", map[string]string{"rva22u64": "rva22u64", "rva23u64": "rva23u64"}},
}

// readGo adds what the Go linker wrote, where it did: also the system and the
// variant, which the format's own headers often lack.
func readGo(r io.ReaderAt, info *Info) {
	b, err := buildinfo.Read(r)
	if err != nil {
		return
	}
	g := &Go{Version: b.GoVersion, Path: b.Path, Module: b.Main.Path}
	for _, m := range b.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		g.Modules = append(g.Modules, m.Path+" "+m.Version)
	}
	info.Go = g
	for _, s := range b.Settings {
		switch {
		case s.Key == "CGO_ENABLED":
			g.Cgo = s.Value == "1"
		case s.Key == "GOOS" && info.OS == "":
			info.OS = s.Value
		case s.Key == goVariants[info.Arch].setting:
			if v := goVariants[info.Arch].values[s.Value]; v != "" {
				info.Variant = v
			}
		}
	}
}
