package archive

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

// Stream is a compressed stream that takes whole files, too.
type Stream interface {
	io.Writer
	// File writes an entry's content, and takes its digest where it is not known.
	File(ctx context.Context, e Entry) (sha256 string, err error)
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
		return plainStream{x}, err
	}
	return nil, fmt.Errorf("unknown compression %q", compression)
}

// plainStream compresses files like everything else.
type plainStream struct{ io.WriteCloser }

// File writes an entry's content.
func (s plainStream) File(ctx context.Context, e Entry) (string, error) { return copyEntry(ctx, s, e) }

// gzipWriter writes one gzip member (RFC 1952) without name and time.
type gzipWriter struct {
	w    io.Writer
	body *parts
	crc  uint32
	size uint32
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

// File writes an entry's content: from its compressed bytes where there are some.
func (g *gzipWriter) File(ctx context.Context, e Entry) (string, error) {
	return g.body.file(ctx, g, e, func(c Compressed) {
		g.crc = combineCRC32(g.crc, c.CRC32, c.Plain)
		g.size += uint32(c.Plain)
	})
}

func (g *gzipWriter) Close() error {
	if err := g.body.Close(); err != nil {
		return err
	}
	tail := binary.LittleEndian.AppendUint32(nil, g.crc)
	_, err := g.w.Write(binary.LittleEndian.AppendUint32(tail, g.size))
	return err
}

// Decompress gives the plain bytes of what is compressed by gzip, bzip2, xz or zstd,
// or not at all. close frees what it holds.
func Decompress(r io.Reader) (plain io.Reader, close func(), err error) {
	plain, _, closer, err := decompressor(r)
	return plain, closer, err
}

// decompressor recognises gzip, bzip2, xz and zstd by their first bytes; anything else
// is passed through. close frees what it holds.
func decompressor(r io.Reader) (plain io.Reader, name string, closer func(), err error) {
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
