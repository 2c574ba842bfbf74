package rpm

import (
	"encoding/binary"
	"slices"
)

// header is a list of tagged values, written in the order of their tags with a
// region around them that signatures cover.
type header struct{ entries []entry }

type entry struct {
	tag, kind uint32
	count     int
	data      []byte
}

func (h *header) add(tag, kind uint32, count int, data []byte) {
	if count > 0 {
		h.entries = append(h.entries, entry{tag, kind, count, data})
	}
}

func (h *header) text(tag uint32, s string) {
	if s != "" {
		h.add(tag, typeString, 1, append([]byte(s), 0))
	}
}

// translated is a text that could have translations; there is the one.
func (h *header) translated(tag uint32, s string) { h.add(tag, typeI18N, 1, append([]byte(s), 0)) }

func (h *header) texts(tag uint32, list []string) {
	var data []byte
	for _, s := range list {
		data = append(append(data, s...), 0)
	}
	h.add(tag, typeArray, len(list), data)
}

func (h *header) int16s(tag uint32, list []uint16) {
	var data []byte
	for _, n := range list {
		data = binary.BigEndian.AppendUint16(data, n)
	}
	h.add(tag, typeInt16, len(list), data)
}

func (h *header) int32s(tag uint32, list ...uint32) {
	var data []byte
	for _, n := range list {
		data = binary.BigEndian.AppendUint32(data, n)
	}
	h.add(tag, typeInt32, len(list), data)
}

func (h *header) int64s(tag uint32, list ...uint64) {
	var data []byte
	for _, n := range list {
		data = binary.BigEndian.AppendUint64(data, n)
	}
	h.add(tag, typeInt64, len(list), data)
}

// encode writes magic, index and store; region is the tag around all entries.
func (h *header) encode(region uint32) []byte {
	slices.SortStableFunc(h.entries, func(a, b entry) int { return int(a.tag) - int(b.tag) })
	var index, store []byte
	for _, e := range h.entries {
		align := map[uint32]int{typeInt16: 2, typeInt32: 4, typeInt64: 8}[e.kind]
		for align > 0 && len(store)%align != 0 {
			store = append(store, 0)
		}
		index = appendIndex(index, e.tag, e.kind, uint32(len(store)), uint32(e.count))
		store = append(store, e.data...)
	}
	count := len(h.entries) + 1
	// The region's own entry comes first; its data, at the end, is an entry that
	// points back over all of the index.
	first := appendIndex(nil, region, typeBin, uint32(len(store)), 16)
	store = appendIndex(store, region, typeBin, uint32(-int32(count*16)), 16)
	out := []byte{0x8e, 0xad, 0xe8, 0x01, 0, 0, 0, 0}
	out = binary.BigEndian.AppendUint32(out, uint32(count))
	out = binary.BigEndian.AppendUint32(out, uint32(len(store)))
	return slices.Concat(out, first, index, store)
}

func appendIndex(to []byte, tag, kind, offset, count uint32) []byte {
	for _, n := range []uint32{tag, kind, offset, count} {
		to = binary.BigEndian.AppendUint32(to, n)
	}
	return to
}
