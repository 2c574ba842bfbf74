package exe

import (
	"bufio"
	"errors"
	"io"
	"os"
)

// Examined is one whole file: what it is, and what stands in it.
type Examined struct {
	Size   int64    `json:"size"`
	Binary *Info    `json:"binary"`
	Paths  []string `json:"paths"` // folders of a build machine that it names
}

// ReadFile examines a file in one pass over its bytes; the tables that its
// headers lead to are read besides.
func ReadFile(path string) (*Examined, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	head := make([]byte, 4)
	if n, _ := f.ReadAt(head, 0); !Magic(head[:n]) {
		return nil, ErrNotBinary
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	found, err := Examine(f, info.Size())
	if err != nil {
		return nil, err
	}
	return pass(f, io.Discard, found)
}

// ReadStream examines what is read from r, when it is a binary; else it is
// ErrNotBinary, and r was read for its first bytes only. Since the formats
// are read from several places, the bytes are put into a temporary file.
func ReadStream(r io.Reader) (*Examined, error) {
	b := bufio.NewReader(r)
	if head, _ := b.Peek(4); !Magic(head) {
		return nil, ErrNotBinary
	}
	tmp, err := os.CreateTemp("", "piedmont-examine-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = tmp.Close(); _ = os.Remove(tmp.Name()) }()
	x, err := pass(b, tmp, nil)
	if err != nil {
		return nil, err
	}
	found, err := Examine(tmp, x.Size)
	if err != nil {
		return nil, err
	}
	x.Binary = found
	return x, nil
}

func pass(r io.Reader, also io.Writer, info *Info) (*Examined, error) {
	scan := NewScanner(nil, nil)
	n, err := io.CopyBuffer(plainWriter{io.MultiWriter(scan, also)}, plainReader{r}, make([]byte, 256<<10))
	if err != nil {
		return nil, errors.Join(errors.New("read the file"), err)
	}
	return &Examined{Size: n, Binary: info, Paths: scan.Paths()}, nil
}

// These two hide the shortcuts of files, so that the copy uses its buffer.
type (
	plainWriter struct{ io.Writer }
	plainReader struct{ io.Reader }
)
