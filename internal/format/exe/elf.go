package exe

import (
	"bytes"
	"debug/elf"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
)

// elfArchs maps machine, word size and byte order to the names of platforms.
// Source: System V ABI, registered e_machine values.
var elfArchs = map[elf.Machine][4]string{ // 32 little, 32 big, 64 little, 64 big
	elf.EM_386:       {"386"},
	elf.EM_X86_64:    {"amd64 (x32)", "", "amd64", ""},
	elf.EM_ARM:       {"arm", "armbe"},
	elf.EM_AARCH64:   {"arm64 (ilp32)", "", "arm64", "arm64be"},
	elf.EM_RISCV:     {"riscv32", "", "riscv64", ""},
	elf.EM_PPC:       {"", "ppc"},
	elf.EM_PPC64:     {"", "", "ppc64le", "ppc64"},
	elf.EM_S390:      {"", "s390", "", "s390x"},
	elf.EM_MIPS:      {"mipsle", "mips", "mips64le", "mips64"},
	elf.EM_LOONGARCH: {"", "", "loong64", ""},
	elf.EM_SPARCV9:   {"", "", "", "sparc64"},
	elf.EM_IA_64:     {"", "", "ia64", ""},
	elf.EM_68K:       {"", "m68k"},
}

func examineELF(r io.ReaderAt) (*Info, error) {
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, fmt.Errorf("this ELF file is damaged: %w", err)
	}
	info := &Info{Format: ELF, Bits: 64, Endian: "little", Arch: elfArch(f),
		Stripped: f.SectionByType(elf.SHT_SYMTAB) == nil}
	if f.Class == elf.ELFCLASS32 {
		info.Bits = 32
	}
	if f.Data == elf.ELFDATA2MSB {
		info.Endian = "big"
	}
	for _, s := range f.Sections {
		if s.Name == ".debug_info" || s.Name == ".zdebug_info" {
			info.DebugInfo = true
		}
	}
	d := readDynamic(f)
	info.Interpreter, info.Needs = interpreter(f), d.needs
	info.Type = elfType(f, d, info.Interpreter)
	info.OS = elfSystem(f, info.Interpreter)
	info.Linkage = Static
	if info.Interpreter != "" || len(d.needs) > 0 || info.Type == Library {
		info.Linkage = Dynamic
	}
	readLibc(info, d)
	hardening(f, d, info)
	notes(f, info)
	if info.Arch == "arm" {
		info.Variant = armVariant(f)
	}
	return info, nil
}

func elfArch(f *elf.File) string {
	i := 0
	if f.Class == elf.ELFCLASS64 {
		i = 2
	}
	if f.Data == elf.ELFDATA2MSB {
		i++
	}
	if name := elfArchs[f.Machine][i]; name != "" {
		return name
	}
	return fmt.Sprintf("machine %d", uint16(f.Machine))
}

// elfType tells programs from libraries: since both can be position
// independent, what the loader is told decides.
func elfType(f *elf.File, d dynamic, interpreter string) string {
	switch f.Type {
	case elf.ET_EXEC:
		return Executable
	case elf.ET_REL:
		return Object
	case elf.ET_CORE:
		return Core
	}
	if d.flags1&uint64(elf.DF_1_PIE) != 0 || (interpreter != "" && d.soname == "") {
		return Executable
	}
	return Library
}

// elfSystem uses what the file says, then what its loader and notes say. A
// file that says nothing may run on any system; that is what Linux programs
// without a loader are.
func elfSystem(f *elf.File, interpreter string) string {
	switch f.OSABI {
	case elf.ELFOSABI_FREEBSD:
		return "freebsd"
	case elf.ELFOSABI_NETBSD:
		return "netbsd"
	case elf.ELFOSABI_OPENBSD:
		return "openbsd"
	case elf.ELFOSABI_SOLARIS:
		return "solaris"
	case elf.ELFOSABI_LINUX:
		return "linux"
	}
	switch {
	case strings.Contains(interpreter, "ld-linux"), strings.Contains(interpreter, "ld-musl"),
		strings.HasPrefix(interpreter, "/lib64/ld64"), strings.HasSuffix(interpreter, "/ld64.so.1"),
		strings.HasSuffix(interpreter, "/ld.so.1") && f.Machine != elf.EM_SPARCV9 && f.Machine != elf.EM_X86_64:
		return "linux"
	case strings.HasPrefix(interpreter, "/usr/libexec/ld-elf.so"), strings.HasPrefix(interpreter, "/libexec/ld-elf.so"):
		return "freebsd"
	case strings.HasSuffix(interpreter, "ld.elf_so"):
		return "netbsd"
	case interpreter == "/usr/libexec/ld.so":
		return "openbsd"
	}
	for _, n := range elfNotes(f) {
		switch {
		case n.name == "OpenBSD":
			return "openbsd"
		case n.name == "NetBSD" && n.kind == 1:
			return "netbsd"
		case n.name == "FreeBSD":
			return "freebsd"
		// NT_GNU_ABI_TAG, Linux
		case n.name == "GNU" && n.kind == 1 && len(n.data) >= 4 && f.ByteOrder.Uint32(n.data) == 0:
			return "linux"
		}
	}
	return ""
}

func interpreter(f *elf.File) string {
	for _, p := range f.Progs {
		if p.Type != elf.PT_INTERP || p.Filesz > 4096 {
			continue
		}
		data := make([]byte, p.Filesz)
		if _, err := p.ReadAt(data, 0); err == nil {
			name, _, _ := bytes.Cut(data, []byte{0})
			return string(name)
		}
	}
	return ""
}

func hardening(f *elf.File, d dynamic, info *Info) {
	h := &info.Hardening
	h.PIE = f.Type == elf.ET_DYN
	relro := false
	for _, p := range f.Progs {
		switch p.Type {
		case elf.PT_GNU_STACK:
			h.NX = p.Flags&elf.PF_X == 0
		case elf.PT_GNU_RELRO:
			relro = true
		}
	}
	now := d.bindNow || d.flags&uint64(elf.DF_BIND_NOW) != 0 || d.flags1&uint64(elf.DF_1_NOW) != 0
	switch {
	case f.Type == elf.ET_REL || f.Type == elf.ET_CORE:
	case relro && (now || !d.present):
		h.RELRO = "full"
	case relro:
		h.RELRO = "partial"
	default:
		h.RELRO = "none"
	}
	h.StackProtector = d.names("__stack_chk_fail") || d.names("__stack_chk_guard") ||
		inStringTable(f, "__stack_chk_fail")
}

// inStringTable looks for a symbol in the table that a stripped file lacks. It
// is read in pieces: the table of a large program is large.
func inStringTable(f *elf.File, name string) bool {
	symbols := f.SectionByType(elf.SHT_SYMTAB)
	if symbols == nil || int(symbols.Link) >= len(f.Sections) {
		return false
	}
	return holds(f.Sections[symbols.Link].Open(), "\x00"+name+"\x00")
}

func holds(r io.Reader, what string) bool {
	buf := make([]byte, 64<<10)
	keep := 0
	for {
		n, err := r.Read(buf[keep:])
		if bytes.Contains(buf[:keep+n], []byte(what)) {
			return true
		}
		if err != nil || n == 0 {
			return false
		}
		tail := min(len(what)-1, keep+n)
		keep = copy(buf, buf[keep+n-tail:keep+n])
	}
}

func notes(f *elf.File, info *Info) {
	for _, n := range elfNotes(f) {
		if n.name != "GNU" {
			continue
		}
		switch n.kind {
		case 3: // NT_GNU_BUILD_ID
			info.BuildID = hex.EncodeToString(n.data)
		case 5: // NT_GNU_PROPERTY_TYPE_0
			properties(f, n.data, info)
		}
	}
}

// properties reads the GNU program properties: the level of amd64 that a file
// needs, and whether branches are guarded. Source: Linux Extensions to gABI.
func properties(f *elf.File, data []byte, info *Info) {
	align := 4
	if f.Class == elf.ELFCLASS64 {
		align = 8
	}
	for len(data) >= 8 {
		kind, size := f.ByteOrder.Uint32(data), int(f.ByteOrder.Uint32(data[4:]))
		if size < 0 || size > len(data)-8 {
			return
		}
		value := data[8 : 8+size]
		if size >= 4 {
			bits := f.ByteOrder.Uint32(value)
			switch {
			case kind == 0xc0008002 && f.Machine == elf.EM_X86_64: // GNU_PROPERTY_X86_ISA_1_NEEDED
				for level, bit := range []uint32{1, 2, 4, 8} {
					if bits&bit != 0 && level > 0 {
						info.Variant = fmt.Sprintf("v%d", level+1)
					}
				}
			case kind == 0xc0000002: // GNU_PROPERTY_X86_FEATURE_1_AND: IBT
				info.Hardening.ControlFlow = bits&1 != 0
			case kind == 0xc0000000: // GNU_PROPERTY_AARCH64_FEATURE_1_AND: BTI
				info.Hardening.ControlFlow = bits&1 != 0
			}
		}
		step := (8 + size + align - 1) / align * align
		if step > len(data) {
			return
		}
		data = data[step:]
	}
}
