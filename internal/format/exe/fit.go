package exe

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
)

// Misfit says why a file is not for a platform; "" when it is.
func Misfit(info *Info, on platform.Platform) string {
	var seen []string
	for _, i := range info.all() {
		if why := misfit(i, on); why == "" {
			return ""
		}
		seen = append(seen, i.Platform())
	}
	return fmt.Sprintf("it is for %s, and %s was declared", strings.Join(seen, " and "), on)
}

func misfit(i *Info, on platform.Platform) string {
	switch {
	case i.Arch != on.Arch:
		return "architecture"
	case i.OS != "" && i.OS != on.OS && !(i.OS == "linux" && on.OS == "android"):
		return "system"
	case i.OS == "" && i.Format != formatOf(on.OS):
		return "format"
	case on.Variant != "" && i.Variant != "" && later(i.Variant, on.Variant):
		return "variant"
	}
	return ""
}

func formatOf(os string) string {
	switch os {
	case "windows":
		return PE
	case "darwin", "ios":
		return MachO
	}
	return ELF
}

// later says whether a variant asks for more than another: v7 for more than v6.
func later(a, b string) bool {
	order := []string{"v1", "v2", "v3", "v4", "v5", "v6", "v7", "v8", "v9"}
	x, y := slices.Index(order, a), slices.Index(order, b)
	if x < 0 || y < 0 {
		order = []string{"power8", "power9", "power10", "rva20u64", "rva22u64", "rva23u64"}
		x, y = slices.Index(order, a), slices.Index(order, b)
	}
	return x >= 0 && y >= 0 && x > y
}
