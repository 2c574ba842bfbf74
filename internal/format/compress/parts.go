package compress

import (
	"bytes"
	"context"
	"io"
	"sync"
)

// A coder compresses the parts of a stream, each so that the next can begin
// where it ends. Its bytes do not depend on how many are compressed at once.
type coder struct {
	algorithm string
	part      int    // bytes of a part
	window    int    // how many bytes before a part it may refer to
	last      []byte // ends the stream
	encode    func(dst *bytes.Buffer, before, part []byte)
	room      *sync.Pool // of parts with what is before them
}

func newCoder(algorithm string, part, window int, last []byte, encode func(dst *bytes.Buffer, before,
	part []byte)) *coder {
	room := &sync.Pool{New: func() any { b := make([]byte, 0, window+part); return &b }}
	return &coder{algorithm, part, window, last, encode, room}
}

// parts is a writer that compresses the parts of a stream side by side.
type parts struct {
	*coder
	w      io.Writer
	next   []byte // what is collected, after what is before it
	before int    // how many bytes of next are before the part
	queue  chan chan piece
	done   chan error
	failed chan struct{}
	once   sync.Once
	closed bool
	ended  error // what end found, for those who ask again
}

var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// piece is what comes next in the stream: compressed bytes, or a file with them.
type piece struct {
	buf  *bytes.Buffer
	file string
}

func newParts(w io.Writer, c *coder, o Options) *parts {
	p := &parts{coder: c, w: w, queue: make(chan chan piece, max(1, o.Jobs)), done: make(chan error, 1),
		failed: make(chan struct{})}
	p.next = (*c.room.Get().(*[]byte))[:0]
	go p.collect()
	return p
}

// collect writes the compressed parts in their order.
func (p *parts) collect() {
	var err error
	for result := range p.queue {
		next := <-result
		if err == nil {
			if next.buf == nil {
				err = Place(p.w, next.file)
			} else {
				_, err = p.w.Write(next.buf.Bytes())
			}
			if err != nil {
				close(p.failed)
			}
		}
		if next.buf != nil {
			buffers.Put(next.buf)
		}
	}
	p.done <- err
}

func (p *parts) Write(b []byte) (int, error) {
	total := len(b)
	for len(b) > 0 {
		n := min(len(b), p.part-(len(p.next)-p.before))
		p.next = append(p.next, b[:n]...)
		b = b[n:]
		if len(p.next)-p.before == p.part {
			if err := p.flush(); err != nil {
				return 0, err
			}
		}
	}
	return total, nil
}

// flush hands the collected part to a goroutine of its own.
func (p *parts) flush() error {
	select {
	case <-p.failed:
		return io.ErrClosedPipe // Close tells the true reason
	default:
	}
	full, before := p.next, p.before
	next := (*p.room.Get().(*[]byte))[:0]
	next = append(next, full[max(0, len(full)-p.window):]...)
	p.next, p.before = next, len(next)
	result := make(chan piece, 1)
	p.queue <- result
	go func() {
		buf := buffers.Get().(*bytes.Buffer)
		buf.Reset()
		p.encode(buf, full[:before], full[before:])
		p.room.Put(&full)
		result <- piece{buf: buf}
	}()
	return nil
}

// cut ends the part that is collected; what follows knows nothing of it.
func (p *parts) cut() error {
	if len(p.next) > p.before {
		if err := p.flush(); err != nil {
			return err
		}
	}
	p.next, p.before = p.next[:0], 0
	return nil
}

// splice puts a file with compressed bytes into the stream, after a cut.
func (p *parts) splice(file string) error {
	select {
	case <-p.failed:
		return io.ErrClosedPipe
	default:
	}
	result := make(chan piece, 1)
	result <- piece{file: file}
	p.queue <- result
	return nil
}

// end writes the rest, and leaves the stream where more may follow. It ends the
// stream's goroutines, and does nothing when it is called again.
func (p *parts) end() error {
	p.once.Do(func() {
		if len(p.next) > p.before {
			_ = p.flush()
		}
		close(p.queue)
		p.ended = <-p.done
		p.room.Put(&p.next)
	})
	return p.ended
}

// Close writes the rest and what ends the stream. It must be called also after an
// error; only the first call writes.
func (p *parts) Close() error {
	if p.closed {
		return p.ended
	}
	p.closed = true
	if err := p.end(); err != nil {
		return err
	}
	_, p.ended = p.w.Write(p.last)
	return p.ended
}

// file writes a file's content through w, which ends here; or, where its
// compressed bytes are cached, takes those, and tells of them.
func (p *parts) file(ctx context.Context, w io.Writer, c Content, taken func(Fragment)) (sha256 string, err error) {
	if !Standalone(c.Size) {
		return c.Copy(ctx, w)
	}
	if err := p.cut(); err != nil {
		return "", err
	}
	cached, err := c.Fragment(ctx, p.algorithm)
	if err != nil {
		return "", err
	}
	if cached == nil {
		sum, err := c.Copy(ctx, w)
		if err != nil {
			return "", err
		}
		return sum, p.cut()
	}
	taken(*cached)
	return c.SHA256, p.splice(cached.Path)
}
