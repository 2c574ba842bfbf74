package exe

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
)

// Expect is what a project declares of a program; zero values ask for nothing.
type Expect struct {
	Linkage         string   `json:"linkage,omitempty"`
	LibcAtMost      string   `json:"libc_at_most,omitempty"`
	Largest         int64    `json:"largest,omitempty"` // bytes
	Stripped        bool     `json:"stripped,omitempty"`
	NoPaths         bool     `json:"no_paths,omitempty"`
	ContainsVersion bool     `json:"contains_version,omitempty"`
	NeedsOnly       []string `json:"needs_only,omitempty"`
	Loader          string   `json:"loader,omitempty"` // that may be an unusual one
}

// Sight is one examined file with what was seen while it was read.
type Sight struct {
	Info       *Info
	Size       int64
	HasVersion bool
}

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

// Broken lists what of the expectations a file does not keep, each as a
// sentence with what was found.
func (e Expect) Broken(s Sight) []string {
	var out []string
	i := s.Info
	if e.Largest > 0 && s.Size > e.Largest {
		out = append(out, fmt.Sprintf("it has %d bytes, and at most %d were expected (largest)", s.Size, e.Largest))
	}
	if e.Linkage != "" && i.Linkage != e.Linkage && !bothWays(i) {
		what := "it is linked statically"
		if i.Linkage == Dynamic {
			what = "it is linked dynamically"
			if len(i.Needs) > 0 {
				what += " and needs " + strings.Join(i.Needs, ", ")
			}
		}
		out = append(out, fmt.Sprintf("%s, and linkage = %q was expected", what, e.Linkage))
	}
	if e.LibcAtMost != "" && i.Libc == "glibc" && compareNumbers(i.LibcAtLeast, e.LibcAtMost) > 0 {
		out = append(out, fmt.Sprintf("it needs glibc %s, which %s has, and libc-at-most = %q was expected", i.LibcAtLeast, since(i.LibcAtLeast), e.LibcAtMost))
	}
	if e.Stripped && !i.Stripped {
		out = append(out, "it has its symbol table, and stripped = true was expected")
	} else if e.Stripped && i.DebugInfo {
		out = append(out, "it has debug information, and stripped = true was expected")
	}
	if e.NoPaths && len(i.Paths) > 0 {
		out = append(out, "it names folders of this machine, and no-paths = true was expected: "+strings.Join(i.Paths, ", "))
	}
	if e.ContainsVersion && !s.HasVersion {
		out = append(out, "the version stands nowhere in it, and contains-version = true was expected")
	}
	if e.NeedsOnly != nil {
		for _, lib := range i.Needs {
			if !slices.Contains(e.NeedsOnly, lib) {
				out = append(out, fmt.Sprintf("it needs %s, which needs-only does not list", lib))
			}
		}
	}
	return out
}

// bothWays says of a program for macOS or Windows that it is linked to the
// system's libraries alone: for such systems that is dynamic, too.
func bothWays(i *Info) bool {
	return i.Format != ELF && i.Linkage == Static && len(i.Needs) > 0
}

func since(glibc string) string {
	if d := OldestSystem(glibc); d != "" {
		return "first " + d
	}
	return "no common distribution yet"
}
