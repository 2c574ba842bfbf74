package compress

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"strings"

	"piedmont/internal/base/fileio"
)

// A file of at least standaloneSize stands alone in a compressed stream: it begins
// and ends where a part does and knows nothing of what is before it. So its
// compressed bytes are the same wherever it goes, are made once, and are placed
// into each archive or package. Smaller files are compressed together.
const standaloneSize = 64 << 10

// Content is the bytes of one file, that go into a stream.
type Content struct {
	Size   int64  // bytes
	SHA256 string // in hex, where it is known already, else ""
	Open   func() (io.ReadCloser, error)
	// Cached gives the content's compressed bytes by an algorithm, for a file that
	// is Standalone and whose SHA256 is known. It may be nil.
	Cached func(ctx context.Context, algorithm string) (*Fragment, error)
}

// Text is the content of a text.
func Text(s string) Content {
	return Content{Size: int64(len(s)),
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(s)), nil }}
}

// Algorithms whose compressed bytes can be placed into a stream.
const (
	Deflate = "deflate"
	Zstd    = "zstd"
)

// Fragment is a file's content as a piece of a compressed stream, without that
// stream's end.
type Fragment struct {
	Path  string `json:"-"` // of the file with the compressed bytes
	Size  int64  `json:"size"`
	Plain int64  `json:"plain"`
	CRC32 uint32 `json:"crc32"` // of the plain bytes, as the other digests
	// For the formats that still keep these digests, taken in the same read where
	// OldDigests asks for them. SHA-1 is wanted by one that is deflated, and taken
	// for that.
	MD5  string `json:"md5,omitempty"`
	SHA1 string `json:"sha1,omitempty"`
}

// Standalone says whether a file of that size stands alone.
func Standalone(size int64) bool { return size >= standaloneSize }

// Algorithm is what a compression takes fragments of; "" where it compresses
// everything anew.
func Algorithm(compression string, o Options) string {
	switch {
	case compression == "gz":
		return Deflate
	case compression == "zst" && framers[o.effort()] != nil && !o.OneFrame:
		return Zstd
	}
	return ""
}

// Make compresses a file's content to w, as a fragment.
func Make(ctx context.Context, w io.Writer, r io.Reader, algorithm string, o Options) (Fragment, error) {
	c := map[string]map[string]*coder{Deflate: deflaters, Zstd: framers}[algorithm][o.effort()]
	if c == nil {
		return Fragment{}, fmt.Errorf("%q has no pieces with the effort %s", algorithm, o.effort())
	}
	count := &countingWriter{w: w}
	p := newParts(count, c, o)
	crc, md, sha := crc32.NewIEEE(), md5.New(), sha1.New()
	readers := []io.Writer{p, crc}
	if o.OldDigests {
		readers = append(readers, md)
	}
	if o.OldDigests && algorithm == Deflate {
		readers = append(readers, sha)
	}
	n, err := io.CopyBuffer(onlyWriter{io.MultiWriter(readers...)}, fileio.Reader(ctx, r), make([]byte, 256<<10))
	if endErr := p.end(); err == nil {
		err = endErr
	}
	out := Fragment{Size: count.n, Plain: n, CRC32: crc.Sum32()}
	if o.OldDigests {
		out.MD5 = hex.EncodeToString(md.Sum(nil))
	}
	if o.OldDigests && algorithm == Deflate {
		out.SHA1 = hex.EncodeToString(sha.Sum(nil))
	}
	return out, err
}

type countingWriter struct {
	w io.Writer
	n int64
}

func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// Fragment gives the cached compressed bytes of the content, or nil where there
// are none.
func (c Content) Fragment(ctx context.Context, algorithm string) (*Fragment, error) {
	if algorithm == "" || c.Cached == nil || c.SHA256 == "" || !Standalone(c.Size) {
		return nil, nil
	}
	f, err := c.Cached(ctx, algorithm)
	if err == nil && f != nil && f.Plain != c.Size {
		err = errChanged
	}
	return f, err
}

var errChanged = errors.New("it changed while it was read")

// Copy streams content to w, checks its length, and takes its digest where it is
// not known. It gives the SHA-256.
func (c Content) Copy(ctx context.Context, w io.Writer) (string, error) {
	r, err := c.Open()
	if err != nil {
		return "", err
	}
	defer func() { _ = r.Close() }()
	sum := c.SHA256
	h := sha256.New()
	if sum == "" {
		w = io.MultiWriter(w, h)
	}
	limited := fileio.Reader(ctx, io.LimitReader(r, c.Size+1))
	n, err := io.CopyBuffer(onlyWriter{w}, limited, make([]byte, min(256<<10, c.Size+1)))
	if err != nil {
		return "", err
	}
	if n != c.Size {
		return "", errChanged
	}
	if sum == "" {
		sum = hex.EncodeToString(h.Sum(nil))
	}
	return sum, nil
}

// onlyWriter hides ReadFrom, so that CopyBuffer uses the buffer it was given.
type onlyWriter struct{ io.Writer }

// placer is a writer that takes a file for its bytes.
type placer interface{ Place(path string) error }

// Place copies a file to w; a writer that takes files is given the file.
func Place(w io.Writer, path string) error {
	if p, ok := w.(placer); ok {
		return p.Place(path)
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	_, err = io.CopyBuffer(onlyWriter{w}, struct{ io.Reader }{f}, make([]byte, 256<<10))
	return err
}

// combineCRC32 gives the checksum of two texts in a row from those of each and
// the length of the second: the first is advanced over as many zero bits, which
// is a product with a power of x modulo the polynomial.
func combineCRC32(a, b uint32, length int64) uint32 {
	return multiply(powerOfX(uint64(length)*8), a) ^ b
}

// multiply multiplies two polynomials over GF(2) modulo that of CRC-32, with
// bits reflected: the highest bit is x^0.
func multiply(a, b uint32) uint32 {
	var product uint32
	for m := uint32(1 << 31); m != 0; m >>= 1 {
		if a&m != 0 {
			product ^= b
		}
		if b&1 != 0 {
			b = b>>1 ^ crc32.IEEE
		} else {
			b >>= 1
		}
	}
	return product
}

// powerOfX is x^n, by squaring.
func powerOfX(n uint64) uint32 {
	result, square := uint32(1<<31), uint32(1<<30)
	for ; n != 0; n >>= 1 {
		if n&1 != 0 {
			result = multiply(square, result)
		}
		square = multiply(square, square)
	}
	return result
}
