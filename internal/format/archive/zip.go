package archive

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"io/fs"

	"piedmont/internal/release"
)

// writeZip writes deflated entries with Unix modes; times are in UTC, with the
// extended timestamp that readers with a time zone need.
func writeZip(ctx context.Context, w io.Writer, entries []Entry, o Options) ([]release.Entry, error) {
	z := zip.NewWriter(w)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return newDeflater(w, o), nil
	})
	var holds []release.Entry
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
		var kept *Compressed
		var err error
		if h.Method == zip.Deflate {
			kept, err = e.Kept(ctx, Deflate)
		}
		if err == nil && kept != nil {
			err = rawEntry(z, h, *kept)
		}
		if err != nil {
			return nil, fmt.Errorf("pack %s: %w", e.Path, err)
		}
		if kept != nil {
			holds = append(holds, held(e, e.SHA256))
			continue
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

// rawEntry writes an entry of its compressed bytes, as CreateHeader would:
// with sizes and checksum after the content, and the extended timestamp.
func rawEntry(z *zip.Writer, h *zip.FileHeader, d Compressed) error {
	seconds := uint32(h.Modified.Unix())
	// CreateRaw writes these as they are; they count two seconds from 1980 on.
	at := h.Modified.UTC()
	//lint:ignore SA1019 CreateRaw looks at no other field
	h.ModifiedDate = uint16(at.Day() + int(at.Month())<<5 + (at.Year()-1980)<<9)
	//lint:ignore SA1019 CreateRaw looks at no other field
	h.ModifiedTime = uint16(at.Second()/2 + at.Minute()<<5 + at.Hour()<<11)
	h.Extra = []byte{0x55, 0x54, 5, 0, 1, byte(seconds), byte(seconds >> 8), byte(seconds >> 16), byte(seconds >> 24)}
	h.CRC32, h.UncompressedSize64, h.CompressedSize64 = d.CRC32, uint64(d.Plain), uint64(d.Size)+uint64(len(lastBlock))
	h.Flags |= 0x8
	if !isASCII(h.Name) {
		h.Flags |= 0x800
	}
	h.CreatorVersion, h.ReaderVersion = h.CreatorVersion&0xff00|20, 20
	out, err := z.CreateRaw(h)
	if err != nil {
		return err
	}
	if err := place(out, d.Path); err != nil {
		return err
	}
	_, err = out.Write(lastBlock)
	return err
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}
