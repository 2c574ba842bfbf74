package expect

import (
	"fmt"
	"slices"
	"strings"

	"piedmont/internal/base/platform"
	"piedmont/internal/format/exe"
)

// Sight is one examined file with what was seen while it was read.
type Sight struct {
	Info       *exe.Info
	Size       int64
	HasVersion bool
}

// Judge says what is wrong with a file for a platform, each as a sentence with
// what was found.
func (e Expect) Judge(s Sight, on platform.Platform) []string {
	var out []string
	if why := exe.Misfit(s.Info, on); why != "" {
		out = append(out, why)
	} else if why := strangeLoader(s.Info, on, e); why != "" {
		out = append(out, why)
	}
	return append(out, e.broken(s)...)
}

// broken lists what of the expectations a file does not keep, each as a
// sentence with what was found.
func (e Expect) broken(s Sight) []string {
	var out []string
	i := s.Info
	if e.Largest > 0 && s.Size > int64(e.Largest) {
		out = append(out, fmt.Sprintf("it has %d bytes, and at most %d were expected (largest)", s.Size, e.Largest))
	}
	if e.Linkage != "" && i.Linkage != e.Linkage && !bothWays(i) {
		what := "it is linked statically"
		if i.Linkage == exe.Dynamic {
			what = "it is linked dynamically"
			if len(i.Needs) > 0 {
				what += " and needs " + strings.Join(i.Needs, ", ")
			}
		}
		out = append(out, fmt.Sprintf("%s, and linkage = %q was expected", what, e.Linkage))
	}
	if e.LibcAtMost != "" && i.Libc == "glibc" && exe.CompareNumbers(i.LibcAtLeast, string(e.LibcAtMost)) > 0 {
		out = append(out, fmt.Sprintf("it needs glibc %s, which %s has, and libc-at-most = %q was expected",
			i.LibcAtLeast, since(i.LibcAtLeast), e.LibcAtMost))
	}
	if e.Stripped && !i.Stripped {
		out = append(out, "it has its symbol table, and stripped = true was expected")
	} else if e.Stripped && i.DebugInfo {
		out = append(out, "it has debug information, and stripped = true was expected")
	}
	if e.NoPaths && len(i.Paths) > 0 {
		out = append(out, "it names folders of this machine, and no-paths = true was expected: "+strings.Join(
			i.Paths, ", "))
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
func bothWays(i *exe.Info) bool {
	return i.Format != exe.ELF && i.Linkage == exe.Static && len(i.Needs) > 0
}

func since(glibc string) string {
	if d := exe.OldestSystem(glibc); d != "" {
		return "first " + d
	}
	return "no common distribution yet"
}
