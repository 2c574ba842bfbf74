package exe

import (
	"debug/pe"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// systemDLLs are Windows' own libraries, without ".dll". A program that needs
// only these runs on any Windows of its age.
var systemDLLs = strings.Fields(`
	advapi32 avicap32 bcrypt bcryptprimitives cfgmgr32 combase comctl32 comdlg32 crypt32
	cryptbase d3d11 d3d9 dbghelp dnsapi dwmapi dxgi gdi32 gdiplus hid imm32 iphlpapi kernel32
	kernelbase mpr msacm32 msi msimg32 msvcrt mswsock ncrypt netapi32 normaliz ntdll ole32
	oleaut32 opengl32 pdh powrprof propsys psapi rpcrt4 sechost secur32 setupapi shcore
	shell32 shlwapi ucrtbase urlmon user32 userenv usp10 uxtheme version wevtapi win32u
	winhttp wininet winmm winspool.drv wintrust wldap32 ws2_32 wsock32 wtsapi32`)

// OfWindows says whether a library is one of the system's own.
func OfWindows(dll string) bool {
	name := strings.TrimSuffix(strings.ToLower(dll), ".dll")
	return slices.Contains(systemDLLs, name) || strings.HasPrefix(name, "api-ms-win-") ||
		strings.HasPrefix(name, "ext-ms-")
}

var peArchs = map[uint16]string{
	pe.IMAGE_FILE_MACHINE_I386: "386", pe.IMAGE_FILE_MACHINE_AMD64: "amd64", pe.IMAGE_FILE_MACHINE_ARM64: "arm64",
	pe.IMAGE_FILE_MACHINE_ARMNT: "arm", pe.IMAGE_FILE_MACHINE_ARM: "arm", pe.IMAGE_FILE_MACHINE_RISCV64: "riscv64",
	pe.IMAGE_FILE_MACHINE_IA64: "ia64", pe.IMAGE_FILE_MACHINE_LOONGARCH64: "loong64",
}

// Bits of DllCharacteristics. Source: Microsoft's PE Format, optional header.
const (
	highEntropyVA = 0x0020
	dynamicBase   = 0x0040
	nxCompatible  = 0x0100
	guardCF       = 0x4000
)

func examinePE(r io.ReaderAt, size int64) (*Info, error) {
	var head [64]byte
	if n, _ := r.ReadAt(head[:], 0); n < len(head) {
		return nil, ErrNotBinary
	}
	var mark [4]byte
	at := int64(binary.LittleEndian.Uint32(head[0x3c:]))
	if at > size-4 {
		return nil, ErrNotBinary // a DOS program, or a text that begins with MZ
	}
	if _, err := r.ReadAt(mark[:], at); err != nil || string(mark[:]) != "PE\x00\x00" {
		return nil, ErrNotBinary
	}
	f, err := pe.NewFile(r)
	if err != nil {
		return nil, fmt.Errorf("this PE file is damaged: %w", err)
	}
	info := &Info{Format: PE, OS: "windows", Bits: 64, Endian: "little", Type: Executable, Arch: peArchs[f.Machine]}
	if info.Arch == "" {
		info.Arch = fmt.Sprintf("machine %d", f.Machine)
	}
	if f.Characteristics&pe.IMAGE_FILE_DLL != 0 {
		info.Type = Library
	}
	var imports pe.DataDirectory
	var traits, subsystem uint16
	switch h := f.OptionalHeader.(type) {
	case *pe.OptionalHeader32:
		info.Bits = 32
		traits, subsystem = h.DllCharacteristics, h.Subsystem
		info.SystemAtLeast = fmt.Sprintf("%d.%d", h.MajorSubsystemVersion, h.MinorSubsystemVersion)
		imports = h.DataDirectory[pe.IMAGE_DIRECTORY_ENTRY_IMPORT]
	case *pe.OptionalHeader64:
		traits, subsystem = h.DllCharacteristics, h.Subsystem
		info.SystemAtLeast = fmt.Sprintf("%d.%d", h.MajorSubsystemVersion, h.MinorSubsystemVersion)
		imports = h.DataDirectory[pe.IMAGE_DIRECTORY_ENTRY_IMPORT]
	default:
		return nil, errors.New("this PE file is damaged: it has no optional header")
	}
	info.Subsystem = map[uint16]string{2: "graphical", 3: "console", 1: "native", 10: "efi", 11: "efi",
		12: "efi", 13: "efi"}[subsystem]
	if info.Subsystem == "efi" {
		info.OS = ""
	}
	info.Needs = importedDLLs(f, imports.VirtualAddress)
	info.Linkage = Static
	for _, dll := range info.Needs {
		if !OfWindows(dll) {
			info.Linkage = Dynamic
		}
	}
	if info.Type == Library {
		info.Linkage = Dynamic
	}
	info.Hardening = Hardening{PIE: traits&dynamicBase != 0, NX: traits&nxCompatible != 0,
		HighEntropy: traits&highEntropyVA != 0, ControlFlow: traits&guardCF != 0}
	info.Stripped = f.NumberOfSymbols == 0
	for _, s := range f.Sections {
		if s.Name == ".debug_info" || s.Name == ".zdebug_info" {
			info.DebugInfo = true
		}
	}
	for _, s := range f.Symbols {
		if s.Name == "__stack_chk_fail" || s.Name == "___stack_chk_fail" {
			info.Hardening.StackProtector = true
		}
	}
	return info, nil
}

// importedDLLs reads the import directory: records of 20 bytes that end with an
// empty one, the fourth field of each the address of a name.
func importedDLLs(f *pe.File, at uint32) []string {
	var out []string
	for at != 0 && len(out) < 4096 {
		record := peAddress(f, at, 20)
		if len(record) < 20 {
			break
		}
		name := binary.LittleEndian.Uint32(record[12:])
		if name == 0 {
			break
		}
		s := stringAt(peAddress(f, name, 256), 0)
		if s == "" {
			break
		}
		out = appendNew(out, s)
		at += 20
	}
	return out
}

func peAddress(f *pe.File, at, size uint32) []byte {
	for _, s := range f.Sections {
		if at < s.VirtualAddress || at-s.VirtualAddress >= s.Size {
			continue
		}
		data := make([]byte, min(size, s.Size-(at-s.VirtualAddress)))
		n, _ := s.ReadAt(data, int64(at-s.VirtualAddress))
		return data[:max(n, 0)]
	}
	return nil
}
