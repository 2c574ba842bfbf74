package archive

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"os"

	"piedmont/internal/base/fileio"
)

// A file of at least aloneSize stands alone in a compressed stream: it begins and
// ends where a part does and knows nothing of what is before it. So its
// compressed bytes are the same wherever it goes, are made once, and are placed
// into each archive or package. Smaller files are compressed together.
const aloneSize = 64 << 10

// Algorithms whose compressed bytes can be placed into a stream.
const (
	Deflate = "deflate"
	Zstd    = "zstd"
)

// Compressed is a file's content as a piece of a stream, without that stream's end.
type Compressed struct {
	Path  string `json:"-"` // of the file with the compressed bytes
	Size  int64  `json:"size"`
	Plain int64  `json:"plain"`
	CRC32 uint32 `json:"crc32"` // of the plain bytes, as the other digests
	// For the formats that still keep these digests, taken in the same read. SHA-1
	// is wanted by one that is deflated, and taken for that.
	MD5  string `json:"md5"`
	SHA1 string `json:"sha1,omitempty"`
}

// Alone says whether a file of that size stands alone.
func Alone(size int64) bool { return size >= aloneSize }

// Algorithm is what a compression takes kept pieces of; "" where it compresses
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

// Compress compresses a file's content to w.
func Compress(ctx context.Context, w io.Writer, r io.Reader, algorithm string, o Options) (Compressed, error) {
	c := map[string]map[string]*coder{Deflate: deflaters, Zstd: framers}[algorithm][o.effort()]
	if c == nil {
		return Compressed{}, fmt.Errorf("%q has no pieces with the effort %s", algorithm, o.effort())
	}
	count := &countingWriter{w: w}
	p := newParts(count, c, o)
	crc, md, sha := crc32.NewIEEE(), md5.New(), sha1.New()
	readers := []io.Writer{p, crc, md}
	if algorithm == Deflate {
		readers = append(readers, sha)
	}
	n, err := io.CopyBuffer(onlyWriter{io.MultiWriter(readers...)}, fileio.Reader(ctx, r), make([]byte, 256<<10))
	if endErr := p.end(); err == nil {
		err = endErr
	}
	out := Compressed{Size: count.n, Plain: n, CRC32: crc.Sum32(), MD5: hex.EncodeToString(md.Sum(nil))}
	if algorithm == Deflate {
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

// Kept gives the compressed bytes of an entry that are kept, or nil.
func (e Entry) Kept(ctx context.Context, algorithm string) (*Compressed, error) {
	if algorithm == "" || e.Compressed == nil || e.SHA256 == "" || !Alone(e.Size) {
		return nil, nil
	}
	c, err := e.Compressed(ctx, algorithm)
	if err == nil && c != nil && c.Plain != e.Size {
		err = fmt.Errorf("it changed while it was read")
	}
	return c, err
}

// placer is a writer that takes a file for its bytes.
type placer interface{ Place(path string) error }

// place copies a file to w.
func place(w io.Writer, path string) error {
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
