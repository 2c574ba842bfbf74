// Package ar writes and reads ar archives in their common form. Source: ar(5).
package ar

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// Magic begins every ar archive.
const Magic = "!<arch>\n"

// maxSize is what ten decimal digits can count.
const maxSize = 9999999999

// ErrTooLarge means that a member has more bytes than its header can say.
var ErrTooLarge = errors.New("a member of an ar archive holds less than 10 GB")

// Begin writes what stands before the first member.
func Begin(w io.Writer) error {
	_, err := io.WriteString(w, Magic)
	return err
}

// Put writes one member, owned by root, with the mode 0644.
func Put(w io.Writer, name string, size int64, modified time.Time, content io.WriterTo) error {
	if size > maxSize {
		return ErrTooLarge
	}
	if _, err := fmt.Fprintf(w, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", name, modified.Unix(), 0, 0, "100644",
		size); err != nil {
		return err
	}
	if _, err := content.WriteTo(w); err != nil {
		return err
	}
	if size%2 == 1 {
		_, err := w.Write([]byte{'\n'})
		return err
	}
	return nil
}

// Member is one file of an archive that is read.
type Member struct {
	Name string
	*io.SectionReader
}

// Errors of reading.
var (
	ErrNotAr   = errors.New("this is no ar archive")
	ErrDamaged = errors.New("the header of a member of the ar archive is none")
)

const headSize = 60

// List reads the headers of at most so many members.
func List(r io.ReaderAt, size int64, most int) ([]Member, error) {
	head := make([]byte, headSize)
	if _, err := r.ReadAt(head[:len(Magic)], 0); err != nil || string(head[:len(Magic)]) != Magic {
		return nil, ErrNotAr
	}
	var out []Member
	for at := int64(len(Magic)); at+headSize <= size && len(out) < most; {
		if _, err := r.ReadAt(head, at); err != nil {
			return nil, err
		}
		n, err := strconv.ParseInt(strings.TrimSpace(string(head[48:58])), 10, 64)
		if err != nil || n < 0 || string(head[58:]) != "`\n" || n > size-at-headSize {
			return nil, ErrDamaged
		}
		name := strings.TrimSuffix(strings.TrimSpace(string(head[:16])), "/")
		out = append(out, Member{name, io.NewSectionReader(r, at+headSize, n)})
		at += headSize + n + n%2
	}
	return out, nil
}
