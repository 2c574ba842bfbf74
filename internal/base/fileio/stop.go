package fileio

import (
	"context"
	"io"
)

// Reader reads from r until ctx ends, and then gives the context's error.
func Reader(ctx context.Context, r io.Reader) io.Reader { return &reader{ctx, r} }

type reader struct {
	ctx context.Context
	r   io.Reader
}

func (r *reader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.r.Read(p)
}

// Writer writes to w until ctx ends, and then gives the context's error.
func Writer(ctx context.Context, w io.Writer) io.Writer { return &writer{ctx, w} }

type writer struct {
	ctx context.Context
	w   io.Writer
}

func (w *writer) Write(p []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	return w.w.Write(p)
}
