package exe

import (
	"debug/macho"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Load commands that the standard library does not name. Source: Mach-O
// headers, loader.h.
const (
	loadUUID         = 0x1b
	loadMinMacOS     = 0x24
	loadBuildVersion = 0x32
)

// maxSlices bounds a fat file; a Java class file begins with the same four
// bytes, and has its format's version, 45 or more, where the number is.
const maxSlices = 30

func examineFat(r io.ReaderAt) (*Info, error) {
	var head [8]byte
	if _, err := r.ReadAt(head[:], 0); err != nil || head[4] != 0 || head[5] != 0 || head[6] != 0 ||
		head[7] == 0 || head[7] > maxSlices {
		return nil, ErrNotBinary
	}
	f, err := macho.NewFatFile(r)
	if err != nil {
		return nil, fmt.Errorf("this fat Mach-O file is damaged: %w", err)
	}
	var all []Info
	for _, arch := range f.Arches {
		one := machoInfo(arch.File)
		readGo(io.NewSectionReader(r, int64(arch.Offset), int64(arch.Size)), one)
		all = append(all, *one)
	}
	if len(all) == 0 {
		return nil, errors.New("this fat Mach-O file is damaged: it holds nothing")
	}
	first := all[0]
	first.Slices = all
	return &first, nil
}

func examineMachO(r io.ReaderAt) (*Info, error) {
	f, err := macho.NewFile(r)
	if err != nil {
		return nil, fmt.Errorf("this Mach-O file is damaged: %w", err)
	}
	return machoInfo(f), nil
}

func machoInfo(f *macho.File) *Info {
	info := &Info{Format: MachO, OS: "darwin", Bits: 64, Endian: "little", Type: Object}
	switch f.Cpu {
	case macho.CpuAmd64:
		info.Arch = "amd64"
	case macho.CpuArm64:
		info.Arch = "arm64"
	case macho.Cpu386:
		info.Arch = "386"
	case macho.CpuArm:
		info.Arch = "arm"
	case macho.CpuPpc:
		info.Arch = "ppc"
	case macho.CpuPpc64:
		info.Arch = "ppc64"
	default:
		info.Arch = fmt.Sprintf("machine %d", uint32(f.Cpu))
	}
	if f.Magic == macho.Magic32 {
		info.Bits = 32
	}
	if f.ByteOrder.String() == "BigEndian" {
		info.Endian = "big"
	}
	switch f.Type {
	case macho.TypeExec:
		info.Type = Executable
	case macho.TypeDylib, macho.TypeBundle, 7: // 7 is the loader itself
		info.Type = Library
	case 4:
		info.Type = Core
	}
	info.Needs, _ = f.ImportedLibraries()
	info.Linkage = Static
	for _, lib := range info.Needs {
		if !strings.HasPrefix(lib, "/usr/lib/") && !strings.HasPrefix(lib, "/System/Library/") {
			info.Linkage = Dynamic
		}
	}
	if info.Type == Library {
		info.Linkage = Dynamic
	}
	info.Hardening.PIE = f.Flags&macho.FlagPIE != 0 || info.Type == Library
	info.Hardening.NX = f.Flags&macho.FlagAllowStackExecution == 0
	loads(f, info)
	info.Stripped = f.Dysymtab == nil || f.Dysymtab.Nlocalsym == 0
	info.DebugInfo = f.Segment("__DWARF") != nil
	if f.Symtab != nil {
		for _, s := range f.Symtab.Syms {
			if s.Name == "___stack_chk_fail" {
				info.Hardening.StackProtector = true
			}
		}
	}
	return info
}

// loads reads the commands that the library keeps as bytes.
func loads(f *macho.File, info *Info) {
	for _, l := range f.Loads {
		raw := l.Raw()
		if len(raw) < 16 {
			continue
		}
		switch f.ByteOrder.Uint32(raw) {
		case loadUUID:
			if len(raw) >= 24 {
				info.BuildID = hex.EncodeToString(raw[8:24])
			}
		case loadMinMacOS:
			info.SystemAtLeast = packedVersion(f.ByteOrder.Uint32(raw[8:]))
		case loadBuildVersion:
			info.SystemAtLeast = packedVersion(f.ByteOrder.Uint32(raw[12:]))
			if p := f.ByteOrder.Uint32(raw[8:]); p == 2 || p == 7 {
				info.OS = "ios"
			}
		}
	}
	if dylinker := f.Flags&macho.FlagDyldLink != 0; dylinker && info.Type == Executable {
		info.Interpreter = "/usr/lib/dyld"
	}
}

// packedVersion reads X.Y.Z as loader.h packs it: xxxx.yy.zz.
func packedVersion(v uint32) string {
	if v&0xff != 0 {
		return fmt.Sprintf("%d.%d.%d", v>>16, v>>8&0xff, v&0xff)
	}
	return fmt.Sprintf("%d.%d", v>>16, v>>8&0xff)
}
