package exe

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"io"
)

// armVariant reads which level of the architecture an ARM file needs, from its
// build attributes. Source: ABI for the Arm Architecture, Addenda, "Build
// Attributes". Files of the Go linker have none; their level is in what the
// linker wrote for Go.
func armVariant(f *elf.File) string {
	var data []byte
	for _, s := range f.Sections {
		if s.Name == ".ARM.attributes" && s.Size <= maxNotes {
			data, _ = io.ReadAll(io.LimitReader(s.Open(), maxNotes))
		}
	}
	if len(data) < 5 || data[0] != 'A' {
		return ""
	}
	data = data[1:]
	for len(data) >= 4 {
		size := uint64(f.ByteOrder.Uint32(data))
		if size < 4 || size > uint64(len(data)) {
			return ""
		}
		section := data[4:size]
		data = data[size:]
		vendor, rest, ok := bytes.Cut(section, []byte{0})
		if !ok || string(vendor) != "aeabi" {
			continue
		}
		if v := armLevel(f, rest); v != "" {
			return v
		}
	}
	return ""
}

func armLevel(f *elf.File, data []byte) string {
	for len(data) >= 5 {
		tag, size := data[0], uint64(f.ByteOrder.Uint32(data[1:]))
		if size < 5 || size > uint64(len(data)) {
			return ""
		}
		attributes := data[5:size]
		data = data[size:]
		if tag != 1 { // Tag_File
			continue
		}
		for len(attributes) > 0 {
			name, n := binary.Uvarint(attributes)
			if n <= 0 {
				return ""
			}
			attributes = attributes[n:]
			if textual(name) {
				_, rest, ok := bytes.Cut(attributes, []byte{0})
				if !ok {
					return ""
				}
				attributes = rest
				continue
			}
			value, n := binary.Uvarint(attributes)
			if n <= 0 {
				return ""
			}
			attributes = attributes[n:]
			if name == 32 { // Tag_compatibility: a number, then a text
				_, attributes, _ = bytes.Cut(attributes, []byte{0})
				continue
			}
			if name == 6 { // Tag_CPU_arch
				return armLevels[value]
			}
		}
	}
	return ""
}

// textual says whether an attribute's value is a text.
func textual(tag uint64) bool {
	return tag == 4 || tag == 5 || tag == 65 || tag == 67 || (tag > 32 && tag%2 == 1)
}

// armLevels are the values of Tag_CPU_arch that are variants of linux/arm.
var armLevels = map[uint64]string{
	1: "v4", 2: "v4", 3: "v5", 4: "v5", 5: "v5",
	6: "v6", 7: "v6", 8: "v6", 9: "v6", 10: "v7", 13: "v7", 14: "v8",
}
