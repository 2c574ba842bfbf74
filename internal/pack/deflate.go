package pack

import (
	"bytes"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"
)

// A deflate stream (RFC 1951) is cut into parts that are compressed side by
// side. Each part knows the 32 KiB before it as a dictionary and ends at a byte
// boundary (an empty stored block), so the parts are one stream together, and
// its bytes do not depend on how many were compressed at once.
const (
	partSize   = 1 << 20
	windowSize = 32 << 10
)

// Efforts say how much time is spent for smaller files.
const (
	Fast   = "fast"
	Normal = "normal"
	Small  = "small"
)

// levels of deflate. Normal was chosen by measurement: within 2% of the size of
// gzip -9 in a sixth of its time.
var levels = map[string]int{Fast: 5, Normal: 8, "": 8, Small: 9}

// deflater is a parallel deflate writer.
type deflater struct {
	w      io.Writer
	part   []byte // what is collected, after its dictionary
	dict   int    // how many bytes of part are dictionary
	queue  chan chan piece
	pool   *sync.Pool // of encoders
	done   chan error
	failed chan struct{}
	once   sync.Once
}

var (
	parts    = sync.Pool{New: func() any { b := make([]byte, 0, windowSize+partSize); return &b }}
	buffers  = sync.Pool{New: func() any { return new(bytes.Buffer) }}
	encoders = pools()
)

func pools() map[int]*sync.Pool {
	out := map[int]*sync.Pool{}
	for _, level := range levels {
		out[level] = &sync.Pool{New: func() any {
			w, err := flate.NewWriterDict(nil, level, nil)
			if err != nil {
				panic(err) // the level is a constant
			}
			return w
		}}
	}
	return out
}

// piece is what comes next in the stream: compressed bytes, or a file with them.
type piece struct {
	buf  *bytes.Buffer
	file string
}

func newDeflater(w io.Writer, o Options) *deflater {
	d := &deflater{w: w, queue: make(chan chan piece, max(1, o.Jobs)), done: make(chan error, 1), failed: make(chan struct{}), pool: encoders[levels[o.Effort]]}
	d.part = (*parts.Get().(*[]byte))[:0]
	go d.collect()
	return d
}

// collect writes the compressed parts in their order.
func (d *deflater) collect() {
	var err error
	for result := range d.queue {
		next := <-result
		if err == nil {
			if next.buf == nil {
				err = copyFile(d.w, next.file)
			} else {
				_, err = d.w.Write(next.buf.Bytes())
			}
			if err != nil {
				close(d.failed)
			}
		}
		if next.buf != nil {
			buffers.Put(next.buf)
		}
	}
	d.done <- err
}

func (d *deflater) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 {
		n := min(len(p), partSize-(len(d.part)-d.dict))
		d.part = append(d.part, p[:n]...)
		p = p[n:]
		if len(d.part)-d.dict == partSize {
			if err := d.flush(); err != nil {
				return 0, err
			}
		}
	}
	return total, nil
}

// flush hands the collected part to a goroutine of its own.
func (d *deflater) flush() error {
	select {
	case <-d.failed:
		return io.ErrClosedPipe // Close tells the true reason
	default:
	}
	part, dict := d.part, d.dict
	next := (*parts.Get().(*[]byte))[:0]
	next = append(next, part[max(0, len(part)-windowSize):]...)
	d.part, d.dict = next, len(next)
	result := make(chan piece, 1)
	d.queue <- result
	go func() {
		buf := buffers.Get().(*bytes.Buffer)
		buf.Reset()
		w := d.pool.Get().(*flate.Writer)
		w.ResetDict(buf, part[:dict])
		// Writing to a buffer cannot fail.
		_, _ = w.Write(part[dict:])
		_ = w.Flush()
		d.pool.Put(w)
		parts.Put(&part)
		result <- piece{buf: buf}
	}()
	return nil
}

// cut ends the part that is collected; what follows knows nothing of it.
func (d *deflater) cut() error {
	if len(d.part) > d.dict {
		if err := d.flush(); err != nil {
			return err
		}
	}
	d.part, d.dict = d.part[:0], 0
	return nil
}

// splice puts a file with compressed bytes into the stream, after a cut.
func (d *deflater) splice(file string) error {
	select {
	case <-d.failed:
		return io.ErrClosedPipe
	default:
	}
	result := make(chan piece, 1)
	result <- piece{file: file}
	d.queue <- result
	return nil
}

// end writes the rest, and leaves the stream open at a byte boundary.
func (d *deflater) end() error {
	if len(d.part) > d.dict {
		_ = d.flush()
	}
	d.once.Do(func() { close(d.queue) })
	err := <-d.done
	parts.Put(&d.part)
	return err
}

// lastBlock has fixed codes and only ends the stream.
var lastBlock = []byte{0x03, 0x00}

// Close writes the rest and the final empty block.
func (d *deflater) Close() error {
	if err := d.end(); err != nil {
		return err
	}
	_, err := d.w.Write(lastBlock)
	return err
}
