package rpm

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/compress"
	"piedmont/internal/format/cpio"
)

var errPayload = errors.New("this RPM package is damaged: its payload is no cpio archive, or cut off")

// walkPayload gives the content of each file to look, in the payload's order.
func walkPayload(ctx context.Context, r io.Reader, files []archive.Entry,
	look func(archive.Entry, io.Reader) error) error {
	plain, _, end, err := compress.Decompress(fileio.Reader(ctx, r))
	if err != nil {
		return err
	}
	defer end()
	byPath := make(map[string]archive.Entry, len(files))
	for _, f := range files {
		byPath[strings.Trim(f.Path, "/")] = f // source packages have names alone
	}
	c := cpio.NewReader(plain)
	for n := 0; ; n++ {
		found, err := c.Next()
		switch {
		case err == io.EOF:
			// What follows carries the compression's checksum.
			if _, err := io.Copy(io.Discard, plain); err != nil {
				return errPayload
			}
			return nil
		case errors.Is(err, cpio.ErrDamaged), err == nil && n == len(files):
			return errPayload
		case err != nil:
			return err
		}
		e, size, err := declared(found, files, byPath)
		if err != nil {
			return err
		}
		content := c.Content(size)
		if !e.Mode.IsRegular() {
			continue
		}
		// Of hard links only the last has the content.
		e.Size = size
		if err := look(e, content); err != nil {
			return fmt.Errorf("read %s: %w", e.Path, err)
		}
	}
}

// declared finds the file of the header that an entry of the payload is.
func declared(found cpio.Found, files []archive.Entry, byPath map[string]archive.Entry) (archive.Entry, int64, error) {
	if found.Number < 0 {
		e, ok := byPath[strings.Trim(strings.TrimPrefix(found.Name, "./"), "/")]
		if !ok {
			return e, 0, fmt.Errorf("this RPM package is damaged: its payload holds %q, which its header "+
				"does not name", found.Name)
		}
		return e, found.Size, nil
	}
	if found.Number >= len(files) {
		return archive.Entry{}, 0, errPayload
	}
	e := files[found.Number]
	if e.IsLink() {
		return e, int64(len(e.Link)), nil
	}
	return e, e.Size, nil
}
