package archive

import (
	"archive/tar"
	"context"
	"fmt"

	"piedmont/internal/release"
)

// writeTar writes POSIX ustar headers, and pax ones where a field does not fit;
// owners are always 0 without a name.
func writeTar(ctx context.Context, s Stream, entries []Entry, o Options) ([]release.Entry, error) {
	var holds []release.Entry
	for _, e := range entries {
		h := &tar.Header{Name: e.Path, Mode: int64(e.Mode.Perm()), ModTime: o.Time, Typeflag: tar.TypeReg, Size: e.Size}
		switch {
		case e.Mode.IsDir():
			h.Typeflag = tar.TypeDir
		case e.Link != "":
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, e.Link, 0
			e.Size = 0
		}
		sum, err := TarEntry(ctx, s, h, e)
		if err != nil {
			return nil, err
		}
		if h.Typeflag != tar.TypeDir {
			holds = append(holds, held(e, sum))
		}
	}
	return holds, EndTar(s)
}

// TarEntry writes a header and, for a file, the entry's content and what fills
// its last block. It gives the content's SHA-256.
func TarEntry(ctx context.Context, s Stream, h *tar.Header, e Entry) (sha256 string, err error) {
	// A writer for each header writes that at once and nothing else, so that the
	// content can go into the stream by itself.
	if err := tar.NewWriter(s).WriteHeader(h); err != nil {
		return "", fmt.Errorf("pack %s: %w", e.Path, err)
	}
	if h.Typeflag != tar.TypeReg {
		return "", nil
	}
	sum, err := s.File(ctx, e)
	if err != nil {
		return "", err
	}
	_, err = s.Write(make([]byte, -e.Size&511))
	return sum, err
}

// EndTar writes the two empty blocks at the end.
func EndTar(s Stream) error {
	_, err := s.Write(make([]byte, 1024))
	return err
}
