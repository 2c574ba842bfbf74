package compress

import (
	"bytes"
	"context"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// A zstd stream (RFC 8878) may be many frames in a row, which know nothing of
// each other. A part is a frame.
const zstdPart = 4 << 20

// zstdLevels by effort. Normal was chosen by measurement: about 0.96 of the size of
// gzip -9, in the time that deflate takes here.
var zstdLevels = map[string]zstd.EncoderLevel{Fast: zstd.SpeedDefault, Normal: zstd.SpeedBetterCompression,
	Small: zstd.SpeedBestCompression}

var framers = map[string]*coder{Fast: framer(zstdLevels[Fast]), Normal: framer(zstdLevels[Normal])}

func framer(level zstd.EncoderLevel) *coder {
	encoders := &sync.Pool{New: func() any {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderConcurrency(1))
		if err != nil {
			panic(err) // the level is a constant
		}
		return e
	}}
	return newCoder(Zstd, zstdPart, 0, nil, func(dst *bytes.Buffer, _, part []byte) {
		e := encoders.Get().(*zstd.Encoder)
		dst.Grow(len(part) / 2)
		_, _ = dst.Write(e.EncodeAll(part, dst.AvailableBuffer()))
		encoders.Put(e)
	})
}

// newZstd begins frames, or one that knows all before: with the effort small,
// which so finds what the files have in common, and where a reader wants it.
func newZstd(w io.Writer, o Options) (Stream, error) {
	if Algorithm("zst", o) == Zstd {
		return &frames{newParts(w, framers[o.effort()], o)}, nil
	}
	// One goroutine: with more, the bytes could depend on their number.
	e, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstdLevels[o.effort()]), zstd.WithEncoderConcurrency(1))
	return &plainStream{WriteCloser: e}, err
}

type frames struct{ *parts }

// File writes a file's content: from its compressed bytes where there are some.
func (f *frames) File(ctx context.Context, c Content) (string, error) {
	return f.file(ctx, f, c, func(Fragment) {})
}
