package rpm

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
)

// ErrNotRPM means that a file is no RPM package.
var ErrNotRPM = errors.New("this is no RPM package")

// Bounds of headers, as rpm has them.
const (
	maxEntries = 1 << 16
	maxStore   = 256 << 20
)

// parsed is a header that was read.
type parsed struct {
	index map[uint32][3]uint32 // kind, offset, count
	store []byte
}

var magic = []byte{0xed, 0xab, 0xee, 0xdb}

// Sniff knows the lead.
func (Format) Sniff(head []byte) bool { return bytes.HasPrefix(head, magic) }

// Recognize knows none by its files: it is no tar.
func (Format) Recognize(func(string) bool) bool { return false }

// Read tells what a package says and holds; look sees the content of each file,
// where the payload is compressed in a way that can be read. Without it only the
// headers are read.
func (Format) Read(ctx context.Context, path string,
	look func(archive.Entry, io.Reader) error) (*linuxpkg.Contents, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	r := bufio.NewReader(f)
	lead := make([]byte, 96)
	if _, err := io.ReadFull(r, lead); err != nil || !bytes.HasPrefix(lead, magic) {
		return nil, ErrNotRPM
	}
	_, size, err := readHeader(r)
	if err != nil {
		return nil, fmt.Errorf("the signature: %w", err)
	}
	if _, err := r.Discard(-size & 7); err != nil {
		return nil, err
	}
	h, _, err := readHeader(r)
	if err != nil {
		return nil, fmt.Errorf("the header: %w", err)
	}
	s := shown(h)
	// Old packages have the compressor lzma, which is not read here.
	if c := h.text(tagPayloadCompressor); look != nil && c != "lzma" && len(s.Files) > 0 {
		if err := walkPayload(ctx, r, s.Files, look); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func readHeader(r io.Reader) (*parsed, int, error) {
	head := make([]byte, 16)
	if _, err := io.ReadFull(r, head); err != nil || !bytes.HasPrefix(head, []byte{0x8e, 0xad, 0xe8, 1}) {
		return nil, 0, errors.New("this RPM package is damaged: there is no header where one must be")
	}
	count, size := binary.BigEndian.Uint32(head[8:]), binary.BigEndian.Uint32(head[12:])
	if count > maxEntries || size > maxStore {
		return nil, 0, errors.New("this RPM package is damaged: a header is larger than any")
	}
	// Read in pieces, so that a size that is a lie costs nothing.
	var data bytes.Buffer
	if n, err := io.CopyN(&data, r, int64(count)*16+int64(size)); err != nil {
		return nil, 0, fmt.Errorf("this RPM package is cut off after %d bytes of a header", n)
	}
	index, store := data.Bytes()[:count*16], data.Bytes()[count*16:]
	h := &parsed{map[uint32][3]uint32{}, store}
	for ; len(index) > 0; index = index[16:] {
		o := binary.BigEndian
		h.index[o.Uint32(index)] = [3]uint32{o.Uint32(index[4:]), o.Uint32(index[8:]), o.Uint32(index[12:])}
	}
	return h, int(count*16 + size), nil
}

// texts gives the strings of a tag.
func (h *parsed) texts(tag uint32) []string {
	e, ok := h.index[tag]
	if !ok || int64(e[1]) > int64(len(h.store)) || (e[0] != typeString && e[0] != typeArray && e[0] != typeI18N) {
		return nil
	}
	var out []string
	for rest := h.store[e[1]:]; uint32(len(out)) < e[2]; {
		s, after, ok := bytes.Cut(rest, []byte{0})
		if !ok {
			break
		}
		out, rest = append(out, string(s)), after
	}
	return out
}

func (h *parsed) text(tag uint32) string {
	if list := h.texts(tag); len(list) > 0 {
		return list[0]
	}
	return ""
}

// numbers gives the integers of a tag.
func (h *parsed) numbers(tag uint32) []uint64 {
	e, ok := h.index[tag]
	size := map[uint32]int{typeInt16: 2, typeInt32: 4, typeInt64: 8}[e[0]]
	if !ok || size == 0 || int64(e[1]) > int64(len(h.store)) {
		return nil
	}
	var out []uint64
	for rest := h.store[e[1]:]; uint32(len(out)) < e[2] && len(rest) >= size; rest = rest[size:] {
		switch size {
		case 2:
			out = append(out, uint64(binary.BigEndian.Uint16(rest)))
		case 4:
			out = append(out, uint64(binary.BigEndian.Uint32(rest)))
		default:
			out = append(out, binary.BigEndian.Uint64(rest))
		}
	}
	return out
}

func at[T any](list []T, i int) T {
	var none T
	if i < len(list) {
		return list[i]
	}
	return none
}

func shown(h *parsed) *linuxpkg.Contents {
	s := &linuxpkg.Contents{Format: name, Name: h.text(tagName), Version: h.text(tagVersion) + "-" +
		h.text(tagRelease), Fields: []linuxpkg.Field{}, Scripts: []linuxpkg.Script{}}
	if e := h.numbers(tagEpoch); len(e) > 0 {
		s.Version = strconv.FormatUint(e[0], 10) + ":" + s.Version
	}
	add := func(name, value string) {
		if value != "" {
			s.Fields = append(s.Fields, linuxpkg.Field{Name: name, Value: value})
		}
	}
	for _, f := range []struct {
		name string
		tag  uint32
	}{{"Name", tagName}, {"Version", tagVersion}, {"Release", tagRelease}, {"Architecture", tagArch},
		{"Summary", tagSummary}, {"Description", tagDescription}, {"License", tagLicense}, {"URL", tagURL},
		{"Packager", tagPackager}, {"Group", tagGroup}, {"Source RPM", tagSourceRPM},
		{"Payload compressor", tagPayloadCompressor}} {
		add(f.name, h.text(f.tag))
	}
	if t := h.numbers(tagBuildTime); len(t) > 0 {
		add("Build time", time.Unix(int64(t[0]), 0).UTC().Format(time.RFC3339))
	}
	for _, r := range []struct {
		name                   string
		names, flags, versions uint32
	}{{"Requires", tagRequireName, tagRequireFlags, tagRequireVersion},
		{"Recommends", tagRecommendName, tagRecommendFlags, tagRecommendVersion},
		{"Suggests", tagSuggestName, tagSuggestFlags, tagSuggestVersion},
		{"Provides", tagProvideName, tagProvideFlags, tagProvideVersion},
		{"Conflicts", tagConflictName, tagConflictFlags, tagConflictVersion},
		{"Obsoletes", tagObsoleteName, tagObsoleteFlags, tagObsoleteVersion}} {
		flags, versions := h.numbers(r.flags), h.texts(r.versions)
		for i, name := range h.texts(r.names) {
			if at(flags, i)&senseRPMLib != 0 {
				continue // what rpm itself must know
			}
			op := ""
			for _, o := range []struct {
				bit  uint64
				text string
			}{{senseLess, "<"}, {senseGreater, ">"}, {senseEqual, "="}} {
				if at(flags, i)&o.bit != 0 {
					op += o.text
				}
			}
			f := linuxpkg.Field{Name: r.name, Value: strings.TrimSpace(name + " " + op + " " + at(versions, i))}
			if !slices.Contains(s.Fields, f) { // a shell is needed by each script
				s.Fields = append(s.Fields, f)
			}
		}
	}
	for _, one := range []struct {
		name string
		tag  uint32
	}{{"preinstall", tagPreIn}, {"postinstall", tagPostIn}, {"preuninstall", tagPreUn}, {"postuninstall", tagPostUn}} {
		if text := h.text(one.tag); text != "" {
			s.Scripts = append(s.Scripts, linuxpkg.Script{When: one.name, Text: text})
		}
	}
	s.Files = files(h)
	return s
}

func files(h *parsed) []archive.Entry {
	dirs, index := h.texts(tagDirNames), h.numbers(tagDirIndexes)
	modes, times, links := h.numbers(tagFileModes), h.numbers(tagFileMtimes), h.texts(tagFileLinkTos)
	users, groups, sizes := h.texts(tagFileUserName), h.texts(tagFileGroupName), h.numbers(tagFileSizes)
	if long := h.numbers(tagLongFileSizes); long != nil {
		sizes = long
	}
	var out []archive.Entry
	for i, base := range h.texts(tagBaseNames) {
		mode := uint32(at(modes, i))
		e := archive.Entry{Path: at(dirs, int(min(at(index, i), 1<<20))) + base, Mode: archive.FileMode(mode & 0o7777),
			Owner: at(users, i), Group: at(groups, i), Time: time.Unix(int64(at(times, i)), 0).UTC(),
			Link: at(links, i)}
		switch mode & 0o170000 {
		case 0o040000:
			e.Mode |= fs.ModeDir
		case 0o100000:
			e.Size = int64(at(sizes, i))
		case 0o120000:
			e.Mode |= fs.ModeSymlink
		default:
			e.Mode |= fs.ModeIrregular
			e.Size = int64(at(sizes, i))
		}
		out = append(out, e)
	}
	return out
}
