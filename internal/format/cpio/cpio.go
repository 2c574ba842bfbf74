// Package cpio writes and reads cpio archives in the "new ASCII" form, and in
// RPM's own for large files, whose entries are only the number of a file.
// Source: cpio(5), and RPM's documentation of its payload.
package cpio

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Header is what stands before an entry.
type Header struct {
	Inode, Mode, Links, Modified, Size int64
	Name                               string
}

// Trailer is the name of the entry that ends an archive.
const Trailer = "TRAILER!!!"

// String is the header as it is written; zero bytes up to a multiple of four
// follow, as they do after the content.
func (h Header) String() string {
	name := h.Name + "\x00"
	var b strings.Builder
	b.WriteString("070701")
	for _, n := range []int64{h.Inode, h.Mode, 0, 0, h.Links, h.Modified, h.Size, 0, 0, 0, 0, int64(len(name)), 0} {
		fmt.Fprintf(&b, "%08x", n)
	}
	return b.String() + name
}

// Numbered is the header of an entry that is known by its number.
func Numbered(i int) string { return fmt.Sprintf("07070X%08x", i) }

// MaxSize is what eight hexadecimal digits can count.
const MaxSize = 1<<32 - 1

// maxName is how long a path may be that is read.
const maxName = 64 << 10

// ErrDamaged means that what is read is no cpio archive, or cut off.
var ErrDamaged = errors.New("this is no cpio archive, or it is cut off")

// Reader reads entries one after another: Next, then Content, then Next.
type Reader struct {
	r    io.Reader
	size int64
	left *io.LimitedReader
}

// NewReader reads from r.
func NewReader(r io.Reader) *Reader { return &Reader{r: r} }

// Found is the head of an entry: a name with a size, or a number.
type Found struct {
	Name   string
	Size   int64
	Number int // of an entry that is known by it, else -1
}

// Next skips what is left of the entry before and reads a head; it gives io.EOF
// at the trailer.
func (c *Reader) Next() (Found, error) {
	if err := c.skip(); err != nil {
		return Found{}, err
	}
	var head [104]byte // after the magic; the checksum is part of it
	if _, err := io.ReadFull(c.r, head[:6]); err != nil {
		return Found{}, ErrDamaged
	}
	switch string(head[:6]) {
	case "07070X":
		if _, err := io.ReadFull(c.r, head[:10]); err != nil { // the number, and two bytes that fill
			return Found{}, ErrDamaged
		}
		n, err := number(head[:8])
		if err != nil {
			return Found{}, ErrDamaged
		}
		return Found{Number: int(n)}, nil
	case "070701", "070702":
	default:
		return Found{}, ErrDamaged
	}
	if _, err := io.ReadFull(c.r, head[:]); err != nil {
		return Found{}, ErrDamaged
	}
	size, err := number(head[48:56])
	length, lengthErr := number(head[88:96])
	if err != nil || lengthErr != nil || length < 1 || length > maxName {
		return Found{}, ErrDamaged
	}
	name := make([]byte, length+(-(110+length)&3))
	if _, err := io.ReadFull(c.r, name); err != nil {
		return Found{}, ErrDamaged
	}
	path := strings.TrimSuffix(string(name[:length]), "\x00")
	if path == Trailer {
		return Found{}, io.EOF
	}
	return Found{Name: path, Size: size, Number: -1}, nil
}

// Content is that of the entry whose head was read; its size is given for the
// form in which the head does not say it.
func (c *Reader) Content(size int64) io.Reader {
	c.size, c.left = size, &io.LimitedReader{R: c.r, N: size}
	return c.left
}

// skip reads what is left of an entry, and what fills it up to four bytes.
func (c *Reader) skip() error {
	if c.left == nil {
		return nil
	}
	if _, err := io.Copy(io.Discard, c.left); err != nil || c.left.N > 0 {
		return ErrDamaged
	}
	c.left = nil
	if _, err := io.CopyN(io.Discard, c.r, -c.size&3); err != nil {
		return ErrDamaged
	}
	return nil
}

// number reads eight hexadecimal digits, without a sign.
func number(digits []byte) (int64, error) {
	n, err := strconv.ParseUint(string(digits), 16, 32)
	return int64(n), err
}
