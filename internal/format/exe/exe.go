// Package exe tells what an executable is, from its bytes alone: ELF,
// Mach-O (also fat files) and PE. What it reads may come from anywhere.
package exe

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"piedmont/internal/base/platform"
)

// Formats of executables.
const (
	ELF   = "elf"
	MachO = "mach-o"
	PE    = "pe"
)

// Types of files in those formats.
const (
	Executable = "executable"
	Library    = "library" // loaded into another
	Object     = "object"  // not linked yet
	Core       = "core"    // what a crash left
)

// Linkages. A static program needs nothing beside the kernel; on macOS and
// Windows, where every program needs the system's own libraries, it needs
// nothing beside those.
const (
	Static  = "static"
	Dynamic = "dynamic"
)

// Info is what was found out about one executable.
type Info struct {
	Format  string `json:"format"`
	Type    string `json:"type"`
	OS      string `json:"os,omitempty"` // "" where the format does not tell
	Arch    string `json:"arch"`         // as platforms write it; "machine N" where that has no name
	Variant string `json:"variant,omitempty"`
	Bits    int    `json:"bits"`
	Endian  string `json:"endian"` // little or big

	Linkage     string   `json:"linkage"`
	Interpreter string   `json:"interpreter,omitempty"`
	Needs       []string `json:"needs,omitempty"` // libraries, in the order of the file
	Libc        string   `json:"libc,omitempty"`  // glibc or musl, of dynamic ELF files
	// LibcAtLeast is the highest glibc symbol version that must be there.
	LibcAtLeast string `json:"libc_at_least,omitempty"`
	// SystemAtLeast is the lowest macOS version, or Windows subsystem version.
	SystemAtLeast string `json:"system_at_least,omitempty"`
	Subsystem     string `json:"subsystem,omitempty"` // console or graphical, of PE

	Stripped  bool      `json:"stripped"`
	DebugInfo bool      `json:"debug_info"`
	Hardening Hardening `json:"hardening"`
	BuildID   string    `json:"build_id,omitempty"`
	Go        *Go       `json:"go,omitempty"`

	Slices []Info `json:"slices,omitempty"` // of a fat Mach-O file; the other fields are the first's

	// Paths are folders of a build machine that the file names, a few of them
	// at most. They are told of a file on this machine, not kept with a release.
	Paths []string `json:"-"`
}

// Hardening are properties that make an attack harder; what a format does not
// have is false or "".
type Hardening struct {
	PIE            bool   `json:"pie"`             // can be loaded anywhere; ASLR works for all of it
	RELRO          string `json:"relro,omitempty"` // none, partial or full, of dynamic ELF
	NX             bool   `json:"nx"`              // the stack is not executable
	StackProtector bool   `json:"stack_protector"` // a canary is checked; not visible in stripped static files
	HighEntropy    bool   `json:"high_entropy,omitempty"`
	ControlFlow    bool   `json:"control_flow,omitempty"` // PE's guard for calls, ELF's property for branches
}

// Go is what the Go linker wrote into a program.
type Go struct {
	Version string   `json:"version"`
	Path    string   `json:"path,omitempty"` // of the main package
	Module  string   `json:"module,omitempty"`
	Modules []string `json:"modules,omitempty"` // path version, of the dependencies
	Cgo     bool     `json:"cgo,omitempty"`
}

// ErrNotBinary means that a file is no executable of a known format.
var ErrNotBinary = errors.New("this is no ELF, Mach-O or PE file")

// Magic says whether a file that begins like this is to be examined. Four bytes
// decide for ELF and Mach-O; PE needs more of the file, so MZ is a yes.
func Magic(head []byte) bool {
	if len(head) < 4 {
		return false
	}
	switch string(head[:4]) {
	case "\x7fELF", "\xfe\xed\xfa\xce", "\xfe\xed\xfa\xcf", "\xce\xfa\xed\xfe", "\xcf\xfa\xed\xfe",
		"\xca\xfe\xba\xbe", "\xca\xfe\xba\xbf":
		return true
	}
	return string(head[:2]) == "MZ"
}

// Examine reads what the headers and tables of a file say. It does not read
// the whole file; what stands somewhere in it is found by a Scanner. The error
// is ErrNotBinary, or says what is damaged.
func Examine(r io.ReaderAt, size int64) (info *Info, err error) {
	// The readers of the standard library are not hardened against every
	// damaged file.
	defer func() {
		if p := recover(); p != nil {
			info, err = nil, fmt.Errorf("this file is damaged: %v", p)
		}
	}()
	head := make([]byte, 4)
	if _, err := r.ReadAt(head, 0); err != nil || !Magic(head) {
		return nil, ErrNotBinary
	}
	switch {
	case string(head) == "\x7fELF":
		info, err = examineELF(r)
	case head[0] == 'M':
		info, err = examinePE(r, size)
	case head[0] == 0xca:
		info, err = examineFat(r)
	default:
		info, err = examineMachO(r)
	}
	if err != nil {
		return nil, err
	}
	if info.Type == Executable || info.Type == Library {
		readGo(r, info)
	}
	return info, nil
}

// Platform is the platform that the file is for, as far as it tells.
func (i *Info) Platform() string {
	p := platform.Platform{OS: i.OS, Arch: i.Arch, Variant: i.Variant}
	if p.OS == "" {
		p.OS = "any system"
	}
	return p.String()
}

// all gives the slices of a fat file, or the one that there is.
func (i *Info) all() []*Info {
	if len(i.Slices) == 0 {
		return []*Info{i}
	}
	var out []*Info
	for k := range i.Slices {
		out = append(out, &i.Slices[k])
	}
	return out
}

func appendNew(list []string, s string) []string {
	if slices.Contains(list, s) {
		return list
	}
	return append(list, s)
}
