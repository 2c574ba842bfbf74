package pack

import (
	"archive/tar"
	"context"
	"fmt"
	"io"

	"piedmont/internal/manifest"
)

// writeTar writes POSIX ustar headers, and pax ones where a field does not fit;
// owners are always 0 without a name.
func writeTar(ctx context.Context, w io.Writer, entries []Entry, o Options) ([]manifest.Entry, error) {
	t := tar.NewWriter(w)
	var holds []manifest.Entry
	for _, e := range entries {
		h := &tar.Header{Name: e.Path, Mode: int64(e.Mode.Perm()), ModTime: o.Time, Typeflag: tar.TypeReg, Size: e.Size}
		switch {
		case e.Mode.IsDir():
			h.Typeflag = tar.TypeDir
		case e.Link != "":
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, e.Link, 0
		}
		if err := t.WriteHeader(h); err != nil {
			return nil, fmt.Errorf("pack %s: %w", e.Path, err)
		}
		switch h.Typeflag {
		case tar.TypeSymlink:
			e.Size = 0
			holds = append(holds, held(e, ""))
		case tar.TypeReg:
			sum, err := copyEntry(ctx, t, e)
			if err != nil {
				return nil, err
			}
			holds = append(holds, held(e, sum))
		}
	}
	return holds, t.Close()
}
