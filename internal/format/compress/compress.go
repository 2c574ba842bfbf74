// Package compress writes compressed streams whose bytes depend on the content
// alone, in parts that are compressed side by side; a large file's compressed
// bytes are made once and placed into every stream of that algorithm.
package compress

import (
	"bufio"
	"compress/bzip2"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Options say how streams are compressed.
type Options struct {
	Jobs   int    // how many parts are compressed at once; leaves no trace in the bytes
	Effort string // Fast, Normal or Small; "" is Normal
	// OneFrame makes a zstd stream one frame, for readers that know no more.
	OneFrame bool
	// OldDigests has Make take the digests that some package formats still keep.
	OldDigests bool
}

func (o Options) effort() string {
	if o.Effort == "" {
		return Normal
	}
	return o.Effort
}

// Stream is a compressed stream that takes whole files, too.
type Stream interface {
	io.Writer
	// File writes a file's content, and takes its digest where it is not known.
	File(ctx context.Context, c Content) (sha256 string, err error)
	// Close ends the stream and frees what it holds; it must be called also after
	// an error, and may be called again.
	Close() error
}

// NewStream begins a stream that is compressed with gz, xz or zst.
func NewStream(w io.Writer, compression string, o Options) (Stream, error) {
	switch compression {
	case "gz":
		return newGzip(w, o)
	case "zst":
		return newZstd(w, o)
	case "xz":
		x, err := xz.WriterConfig{DictCap: 8 << 20}.NewWriter(w)
		return &plainStream{WriteCloser: x}, err
	}
	return nil, fmt.Errorf("unknown compression %q", compression)
}

// plainStream compresses files like everything else.
type plainStream struct {
	io.WriteCloser
	closed bool
	err    error
}

// File writes a file's content.
func (s *plainStream) File(ctx context.Context, c Content) (string, error) { return c.Copy(ctx, s) }

// Close ends the stream once.
func (s *plainStream) Close() error {
	if !s.closed {
		s.closed, s.err = true, s.WriteCloser.Close()
	}
	return s.err
}

// gzipWriter writes one gzip member (RFC 1952) without name and time.
type gzipWriter struct {
	w      io.Writer
	body   *parts
	crc    uint32
	size   uint32
	closed bool
	err    error
}

func newGzip(w io.Writer, o Options) (*gzipWriter, error) {
	// Magic, deflate, no flags, no time, no extra flags, unknown system.
	if _, err := w.Write([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff}); err != nil {
		return nil, err
	}
	return &gzipWriter{w: w, body: newDeflater(w, o)}, nil
}

func (g *gzipWriter) Write(p []byte) (int, error) {
	g.crc = crc32.Update(g.crc, crc32.IEEETable, p)
	g.size += uint32(len(p))
	return g.body.Write(p)
}

// File writes a file's content: from its compressed bytes where there are some.
func (g *gzipWriter) File(ctx context.Context, c Content) (string, error) {
	return g.body.file(ctx, g, c, func(c Fragment) {
		g.crc = combineCRC32(g.crc, c.CRC32, c.Plain)
		g.size += uint32(c.Plain)
	})
}

// Close ends the member once.
func (g *gzipWriter) Close() error {
	if g.closed {
		return g.err
	}
	g.closed = true
	if g.err = g.body.Close(); g.err != nil {
		return g.err
	}
	tail := binary.LittleEndian.AppendUint32(nil, g.crc)
	_, g.err = g.w.Write(binary.LittleEndian.AppendUint32(tail, g.size))
	return g.err
}

// Decompress recognises gzip, bzip2, xz and zstd by their first bytes, and names
// what it found: gz, bz2, xz, zst, or "" for bytes that are passed through. close
// frees what it holds.
func Decompress(r io.Reader) (plain io.Reader, name string, close func(), err error) {
	none := func() {}
	b := bufio.NewReaderSize(r, 64<<10)
	head, _ := b.Peek(6)
	switch {
	case len(head) >= 2 && head[0] == 0x1f && head[1] == 0x8b:
		g, err := gzip.NewReader(b)
		return g, "gz", none, err
	case len(head) >= 6 && string(head) == "\xfd7zXZ\x00":
		x, err := xz.NewReader(b)
		return x, "xz", none, err
	case len(head) >= 4 && string(head[:3]) == "BZh" && head[3] >= '1' && head[3] <= '9':
		return bzip2.NewReader(b), "bz2", none, nil
	case len(head) >= 4 && string(head[:4]) == "\x28\xb5\x2f\xfd":
		z, err := zstd.NewReader(b, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
		if err != nil {
			return nil, "", none, err
		}
		return z, "zst", z.Close, nil
	}
	return b, "", none, nil
}
