package archive

import (
	"context"
	"io"
	"os"
)

// Walk reads the archive at a path with the first of the readers that knows it,
// and gives each entry and every file's content to look, which need not read it
// and may be nil. The format is known by the content.
func Walk(ctx context.Context, file string, readers []Reader, look func(Entry, io.Reader) error) (name string,
	entries []Entry, err error) {
	f, err := Open(file)
	if err != nil {
		return "", nil, err
	}
	defer func() { _ = f.Close() }()
	r, err := readerOf(f, readers)
	if err != nil {
		return "", nil, err
	}
	name, err = r.Walk(ctx, f, func(e Entry, content io.Reader) error {
		entries = append(entries, e)
		if look == nil || !e.Mode.IsRegular() {
			return nil
		}
		return look(e, content)
	})
	if err != nil {
		return "", nil, err
	}
	return name, entries, nil
}

func readerOf(f File, readers []Reader) (Reader, error) {
	head := make([]byte, 512)
	n, _ := f.ReadAt(head, 0)
	for _, r := range readers {
		if r.Sniff(head[:n]) {
			return r, nil
		}
	}
	return nil, ErrNotArchive
}

// Open opens a file for reading as an archive.
func Open(path string) (*OpenFile, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return &OpenFile{f, info.Size()}, nil
}

// OpenFile is a File of the disk.
type OpenFile struct {
	*os.File
	size int64
}

// Size is the file's length in bytes.
func (f *OpenFile) Size() int64 { return f.size }
