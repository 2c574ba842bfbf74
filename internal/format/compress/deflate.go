package compress

import (
	"bytes"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"
)

// A deflate stream (RFC 1951) is cut into parts. Each knows the 32 KiB before it
// as a dictionary and ends at a byte boundary (an empty stored block), so the
// parts are one stream together.
const (
	deflatePart   = 1 << 20
	deflateWindow = 32 << 10
)

// Efforts say how much time is spent for smaller files.
const (
	Fast   = "fast"
	Normal = "normal"
	Small  = "small"
)

// LastBlock has fixed codes and only ends a deflate stream; a Fragment is one
// without it.
var LastBlock = []byte{0x03, 0x00}

// deflaters by effort. Normal was chosen by measurement: within 2% of the size of
// gzip -9 in a sixth of its time.
var deflaters = map[string]*coder{Fast: deflater(5), Normal: deflater(8), Small: deflater(9)}

func deflater(level int) *coder {
	encoders := &sync.Pool{New: func() any {
		w, err := flate.NewWriterDict(nil, level, nil)
		if err != nil {
			panic(err) // the level is a constant
		}
		return w
	}}
	return newCoder(Deflate, deflatePart, deflateWindow, LastBlock, func(dst *bytes.Buffer, before, part []byte) {
		w := encoders.Get().(*flate.Writer)
		w.ResetDict(dst, before)
		// Writing to a buffer cannot fail.
		_, _ = w.Write(part)
		_ = w.Flush()
		encoders.Put(w)
	})
}

// NewDeflater compresses to a raw deflate stream.
func NewDeflater(w io.Writer, o Options) io.WriteCloser { return newDeflater(w, o) }

func newDeflater(w io.Writer, o Options) *parts { return newParts(w, deflaters[o.effort()], o) }
