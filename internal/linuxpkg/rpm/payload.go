package rpm

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"piedmont/internal/format/archive"
)

// maxName is how long a path in a payload may be.
const maxName = 64 << 10

// walkPayload gives the content of each file to look, in the payload's order. It
// reads cpio's "newc" form, and RPM's own for large files, whose entries are only
// the number of a file. Source: cpio(5), "New ASCII Format".
func walkPayload(r io.Reader, items []archive.Item, look func(archive.Item, io.Reader) error) error {
	plain, closer, err := archive.Decompress(r)
	if err != nil {
		return err
	}
	defer closer()
	byPath := make(map[string]archive.Item, len(items))
	for _, i := range items {
		byPath[strings.Trim(i.Path, "/")] = i // source packages have names alone
	}
	c := &cpio{r: plain}
	for n := 0; ; n++ {
		item, size, err := c.next(items, byPath)
		if err == io.EOF {
			// What follows carries the compression's checksum.
			if _, err := io.Copy(io.Discard, plain); err != nil {
				return errPayload
			}
			return nil
		}
		if err == nil && n == len(items) {
			err = errPayload
		}
		if err != nil {
			return err
		}
		content := &io.LimitedReader{R: plain, N: size}
		if item.Type == "file" {
			// Of hard links only the last has the content.
			item.Size = size
			if err := look(item, content); err != nil {
				return fmt.Errorf("read %s: %w", item.Path, err)
			}
		}
		if err := c.skip(content, size); err != nil {
			return err
		}
	}
}

// cpio reads the entries of an archive.
type cpio struct{ r io.Reader }

var errPayload = errors.New("this RPM package is damaged: its payload is no cpio archive, or cut off")

// next reads a header, and gives io.EOF at the trailer.
func (c *cpio) next(items []archive.Item, byPath map[string]archive.Item) (archive.Item, int64, error) {
	var head [104]byte // after the magic; the checksum is part of it
	if _, err := io.ReadFull(c.r, head[:6]); err != nil {
		return archive.Item{}, 0, errPayload
	}
	switch string(head[:6]) {
	case "07070X":
		if _, err := io.ReadFull(c.r, head[:10]); err != nil { // the number, and two bytes that fill
			return archive.Item{}, 0, errPayload
		}
		n, err := number(head[:8])
		if err != nil || n >= int64(len(items)) {
			return archive.Item{}, 0, errPayload
		}
		size := items[n].Size
		if items[n].Type == "link" {
			size = int64(len(items[n].Link))
		}
		return items[n], size, nil
	case "070701", "070702":
	default:
		return archive.Item{}, 0, errPayload
	}
	if _, err := io.ReadFull(c.r, head[:]); err != nil {
		return archive.Item{}, 0, errPayload
	}
	size, err := number(head[48:56])
	length, lengthErr := number(head[88:96])
	if err != nil || lengthErr != nil || length < 1 || length > maxName {
		return archive.Item{}, 0, errPayload
	}
	name := make([]byte, length+(-(110+length)&3))
	if _, err := io.ReadFull(c.r, name); err != nil {
		return archive.Item{}, 0, errPayload
	}
	path := strings.TrimSuffix(string(name[:length]), "\x00")
	if path == "TRAILER!!!" {
		return archive.Item{}, 0, io.EOF
	}
	item, ok := byPath[strings.Trim(strings.TrimPrefix(path, "./"), "/")]
	if !ok {
		return archive.Item{}, 0, fmt.Errorf("this RPM package is damaged: its payload holds %q, which its header does not name", path)
	}
	return item, size, nil
}

// skip reads what is left of an entry, and what fills it up to four bytes.
func (c *cpio) skip(content *io.LimitedReader, size int64) error {
	if _, err := io.Copy(io.Discard, content); err != nil || content.N > 0 {
		return errPayload
	}
	_, err := io.CopyN(io.Discard, c.r, -size&3)
	if err != nil {
		return errPayload
	}
	return nil
}

// number reads eight hexadecimal digits, without a sign.
func number(digits []byte) (int64, error) {
	n, err := strconv.ParseUint(string(digits), 16, 32)
	return int64(n), err
}
