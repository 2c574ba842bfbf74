package pack

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"io/fs"

	"piedmont/internal/manifest"
)

// writeZip writes deflated entries with Unix modes; times are in UTC, with the
// extended timestamp that readers with a time zone need.
func writeZip(ctx context.Context, w io.Writer, entries []Entry, o Options) ([]manifest.Entry, error) {
	z := zip.NewWriter(w)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return newDeflater(w, o.Jobs), nil
	})
	var holds []manifest.Entry
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.Path, Modified: o.Time.UTC(), Method: zip.Deflate}
		switch {
		case e.Mode.IsDir():
			h.Method = zip.Store
			h.SetMode(e.Mode)
		case e.Link != "":
			h.Method = zip.Store
			h.SetMode(fs.ModeSymlink | 0o777)
		default:
			h.SetMode(e.Mode.Perm())
		}
		out, err := z.CreateHeader(h)
		if err != nil {
			return nil, fmt.Errorf("pack %s: %w", e.Path, err)
		}
		switch {
		case e.Mode.IsDir():
		case e.Link != "":
			if _, err := io.WriteString(out, e.Link); err != nil {
				return nil, err
			}
			e.Size = 0
			holds = append(holds, held(e, ""))
		default:
			sum, err := copyEntry(ctx, out, e)
			if err != nil {
				return nil, err
			}
			holds = append(holds, held(e, sum))
		}
	}
	return holds, z.Close()
}
