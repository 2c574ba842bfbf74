package compress

import (
	"bytes"
	"hash"
	"io"
	"os"
)

// spoolMemory is how much a Spool holds before it takes a file on the disk.
const spoolMemory = 1 << 20

// Spool holds a payload until what stands before it is known, such as its size
// and digest. Compressed bytes that are kept in files are not copied, but read
// where they are.
type Spool struct {
	sum   hash.Hash // of all of it; nil takes none
	size  int64
	run   []run
	own   []byte   // what is written and not yet in file
	file  *os.File // what was too much for memory, in the order of its writing
	spilt int64
}

// run is a number of bytes of the spool's own, or a whole file.
type run struct {
	own  int64
	path string
}

// NewSpool makes a Spool, which must be closed. sum sees the bytes; it may be nil.
func NewSpool(sum hash.Hash) *Spool { return &Spool{sum: sum} }

// Size is how many bytes there are.
func (s *Spool) Size() int64 { return s.size }

// Write adds bytes.
func (s *Spool) Write(p []byte) (int, error) {
	if len(s.run) == 0 || s.run[len(s.run)-1].path != "" {
		s.run = append(s.run, run{})
	}
	s.run[len(s.run)-1].own += int64(len(p))
	s.own = append(s.own, p...)
	if len(s.own) > spoolMemory {
		if err := s.spill(); err != nil {
			return 0, err
		}
	}
	s.count(p)
	return len(p), nil
}

func (s *Spool) count(p []byte) {
	s.size += int64(len(p))
	if s.sum != nil {
		s.sum.Write(p)
	}
}

func (s *Spool) spill() error {
	if s.file == nil {
		f, err := os.CreateTemp("", "piedmont-payload-")
		if err != nil {
			return err
		}
		s.file = f
	}
	n, err := s.file.Write(s.own)
	s.spilt += int64(n)
	s.own = s.own[:0]
	return err
}

// Place adds the bytes of a file, which must stay as it is.
func (s *Spool) Place(path string) error {
	if s.sum == nil {
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		s.size += info.Size()
	} else if err := Place(counter{s}, path); err != nil {
		return err
	}
	s.run = append(s.run, run{path: path})
	return nil
}

// counter sees bytes that are not copied.
type counter struct{ s *Spool }

func (c counter) Write(p []byte) (int, error) {
	c.s.count(p)
	return len(p), nil
}

// WriteTo writes all of it to w.
func (s *Spool) WriteTo(w io.Writer) (int64, error) {
	own := io.Reader(bytes.NewReader(s.own))
	if s.file != nil {
		own = io.MultiReader(io.NewSectionReader(s.file, 0, s.spilt), own)
	}
	count := &countingWriter{w: w}
	buf := make([]byte, 256<<10)
	for _, r := range s.run {
		var err error
		if r.path != "" {
			err = Place(count, r.path)
		} else {
			_, err = io.CopyBuffer(onlyWriter{count}, io.LimitReader(own, r.own), buf)
		}
		if err != nil {
			return count.n, err
		}
	}
	if count.n != s.size {
		return count.n, io.ErrUnexpectedEOF
	}
	return count.n, nil
}

// Close frees what it holds.
func (s *Spool) Close() {
	if s.file != nil {
		_ = s.file.Close()
		_ = os.Remove(s.file.Name())
	}
}
