package pack

import (
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"os"
)

// A file of at least aloneSize stands alone in a deflate stream: it begins and
// ends at a byte boundary and knows nothing of what is before it. So its
// compressed bytes are the same wherever it goes, are made once, and are placed
// into each zip, tar.gz, or package. Smaller files are compressed together.
const aloneSize = 64 << 10

// Deflated is a file's content as a piece of a deflate stream, without a last block.
type Deflated struct {
	Path  string `json:"-"` // of the file with the compressed bytes
	Size  int64  `json:"size"`
	Plain int64  `json:"plain"`
	CRC32 uint32 `json:"crc32"` // of the plain bytes
}

// Alone says whether a file of that size stands alone.
func Alone(size int64) bool { return size >= aloneSize }

// Deflate compresses a file's content to w as a Deflated.
func Deflate(ctx context.Context, w io.Writer, r io.Reader, o Options) (Deflated, error) {
	count := &countingWriter{w: w}
	d := newDeflater(count, o)
	h := crc32.NewIEEE()
	n, err := io.CopyBuffer(onlyWriter{io.MultiWriter(d, h)}, &contextReader{ctx, r}, make([]byte, 256<<10))
	if endErr := d.end(); err == nil {
		err = endErr
	}
	return Deflated{Size: count.n, Plain: n, CRC32: h.Sum32()}, err
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

// Stream is a compressed stream that takes whole files, too.
type Stream interface {
	io.Writer
	// File writes an entry's content, and takes its digest where it is not known.
	File(ctx context.Context, e Entry) (sha256 string, err error)
	Close() error
}

// NewStream begins a stream that is compressed with gz, xz or zst.
func NewStream(w io.Writer, compression string, o Options) (Stream, error) {
	if compression == "gz" {
		return newGzip(w, o)
	}
	c, err := compressor(w, compression, o)
	if err != nil {
		return nil, err
	}
	return plainStream{c}, nil
}

// plainStream compresses files like everything else.
type plainStream struct{ io.WriteCloser }

// File writes an entry's content.
func (s plainStream) File(ctx context.Context, e Entry) (string, error) { return copyEntry(ctx, s, e) }

// File writes an entry's content: from its compressed bytes where there are some.
func (g *gzipWriter) File(ctx context.Context, e Entry) (string, error) {
	if !Alone(e.Size) {
		return copyEntry(ctx, g, e)
	}
	if err := g.body.cut(); err != nil {
		return "", err
	}
	if e.Deflated == nil || e.SHA256 == "" {
		sum, err := copyEntry(ctx, g, e)
		if err != nil {
			return "", err
		}
		return sum, g.body.cut()
	}
	d, err := e.Deflated()
	if err != nil {
		return "", fmt.Errorf("pack %s: %w", e.Path, err)
	}
	if d.Plain != e.Size {
		return "", fmt.Errorf("pack %s: it changed while it was read", e.Path)
	}
	g.crc = combineCRC32(g.crc, d.CRC32, d.Plain)
	g.size += uint32(d.Plain)
	return e.SHA256, g.body.splice(d.Path)
}

// copyFile copies a file to w.
func copyFile(w io.Writer, path string) error {
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
