package exe

import (
	"bytes"
	"debug/elf"
	"io"
	"strings"
)

// dynamic is what the loader is told, found as the loader finds it: by the
// segments, since sections may be missing or lie.
type dynamic struct {
	present  bool
	needs    []string
	soname   string
	flags    uint64
	flags1   uint64
	bindNow  bool
	strings  []byte
	versions []needed
}

// needed is one version of a library's symbols that must be there.
type needed struct {
	library, version string
	weak             bool
}

// names says whether a symbol is named in the dynamic string table.
func (d dynamic) names(symbol string) bool {
	return bytes.Contains(d.strings, []byte("\x00"+symbol+"\x00"))
}

// Bounds of what a hostile file can make us read.
const (
	maxDynamic = 1 << 16
	maxStrings = 16 << 20
	maxNotes   = 1 << 20
)

func readDynamic(f *elf.File) dynamic {
	var d dynamic
	var data []byte
	for _, p := range f.Progs {
		if p.Type == elf.PT_DYNAMIC && p.Filesz > 0 && p.Filesz <= maxDynamic*16 {
			data = make([]byte, p.Filesz)
			if n, _ := p.ReadAt(data, 0); n < len(data) {
				data = data[:n]
			}
			d.present = true
			break
		}
	}
	word := 4
	read := func(b []byte) uint64 { return uint64(f.ByteOrder.Uint32(b)) }
	if f.Class == elf.ELFCLASS64 {
		word, read = 8, f.ByteOrder.Uint64
	}
	var needs []uint64
	values := map[elf.DynTag]uint64{}
	for ; len(data) >= 2*word; data = data[2*word:] {
		tag, value := elf.DynTag(read(data)), read(data[word:])
		if tag == elf.DT_NULL {
			break
		}
		if tag == elf.DT_NEEDED {
			needs = append(needs, value)
			continue
		}
		values[tag] = value
	}
	_, d.bindNow = values[elf.DT_BIND_NOW]
	d.flags, d.flags1 = values[elf.DT_FLAGS], values[elf.DT_FLAGS_1]
	if size := values[elf.DT_STRSZ]; size > 0 && size <= maxStrings {
		d.strings = readAddress(f, values[elf.DT_STRTAB], size)
	}
	for _, at := range needs {
		if s := stringAt(d.strings, at); s != "" {
			d.needs = appendNew(d.needs, s)
		}
	}
	if at, ok := values[elf.DT_SONAME]; ok {
		d.soname = stringAt(d.strings, at)
	}
	if at, ok := values[elf.DT_VERNEED]; ok {
		d.versions = readNeeds(f, at, values[elf.DT_VERNEEDNUM], d.strings)
	}
	return d
}

// readAddress reads what will be at an address when the file is loaded.
func readAddress(f *elf.File, at, size uint64) []byte {
	for _, p := range f.Progs {
		if p.Type != elf.PT_LOAD || at < p.Vaddr || at-p.Vaddr >= p.Filesz {
			continue
		}
		data := make([]byte, min(size, p.Filesz-(at-p.Vaddr)))
		n, _ := p.ReadAt(data, int64(at-p.Vaddr))
		return data[:max(n, 0)]
	}
	return nil
}

func stringAt(table []byte, at uint64) string {
	if at >= uint64(len(table)) {
		return ""
	}
	s, _, ok := bytes.Cut(table[at:], []byte{0})
	if !ok {
		return ""
	}
	return string(s)
}

// readNeeds reads the chain of Elfxx_Verneed and their Elfxx_Vernaux records.
// Source: Linux Standard Base, symbol versioning.
func readNeeds(f *elf.File, at, count uint64, table []byte) []needed {
	var out []needed
	o := f.ByteOrder
	for ; count > 0 && len(out) < 4096; count-- {
		b := readAddress(f, at, 16)
		if len(b) < 16 {
			return out
		}
		library := stringAt(table, uint64(o.Uint32(b[4:])))
		aux, next := at+uint64(o.Uint32(b[8:])), uint64(o.Uint32(b[12:]))
		for n := o.Uint16(b[2:]); n > 0; n-- {
			a := readAddress(f, aux, 16)
			if len(a) < 16 {
				break
			}
			const weak = 2 // VER_FLG_WEAK
			out = append(out, needed{library, stringAt(table, uint64(o.Uint32(a[8:]))), o.Uint16(a[4:])&weak != 0})
			step := uint64(o.Uint32(a[12:]))
			if step == 0 {
				break
			}
			aux += step
		}
		if next == 0 {
			break
		}
		at += next
	}
	return out
}

func readLibc(info *Info, d dynamic) {
	if strings.Contains(info.Interpreter, "ld-musl") {
		info.Libc = "musl"
	}
	for _, lib := range d.needs {
		if strings.HasPrefix(lib, "libc.musl-") {
			info.Libc = "musl"
		}
		if lib == "libc.so.6" || lib == "libc.so.6.1" {
			info.Libc = "glibc"
		}
	}
	for _, v := range d.versions {
		number, ok := strings.CutPrefix(v.version, "GLIBC_")
		if !ok || v.weak || number == "PRIVATE" || number == "" || number[0] < '0' || number[0] > '9' {
			continue
		}
		info.Libc = "glibc"
		if CompareNumbers(number, info.LibcAtLeast) > 0 {
			info.LibcAtLeast = number
		}
	}
}

type note struct {
	name string
	kind uint32
	data []byte
}

// elfNotes reads the notes of all segments and sections: some linkers have
// notes that only one of both leads to.
func elfNotes(f *elf.File) []note {
	var out []note
	for _, p := range f.Progs {
		if p.Type == elf.PT_NOTE {
			out = append(out, parseNotes(f, p.ReaderAt, p.Filesz, p.Align)...)
		}
	}
	for _, s := range f.Sections {
		if s.Type == elf.SHT_NOTE {
			out = append(out, parseNotes(f, s.ReaderAt, s.FileSize, s.Addralign)...)
		}
	}
	return out
}

func parseNotes(f *elf.File, r io.ReaderAt, size, align uint64) []note {
	if size > maxNotes {
		return nil
	}
	data := make([]byte, size)
	n, _ := r.ReadAt(data, 0)
	data = data[:max(n, 0)]
	if align != 8 {
		align = 4
	}
	up := func(n uint64) uint64 { return (n + align - 1) / align * align }
	var out []note
	for len(data) >= 12 {
		nameSize, dataSize := uint64(f.ByteOrder.Uint32(data)), uint64(f.ByteOrder.Uint32(data[4:]))
		kind := f.ByteOrder.Uint32(data[8:])
		start := up(12 + nameSize)
		if start > uint64(len(data)) || dataSize > uint64(len(data))-start {
			return out
		}
		name := strings.TrimRight(string(data[12:12+nameSize]), "\x00")
		out = append(out, note{name, kind, data[start : start+dataSize]})
		next := up(start + dataSize)
		if next > uint64(len(data)) {
			return out
		}
		data = data[next:]
	}
	return out
}
