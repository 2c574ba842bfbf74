package fileio

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"
)

func TestStop(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	var out bytes.Buffer
	r, w := Reader(ctx, strings.NewReader("abcdef")), Writer(ctx, &out)
	if _, err := io.CopyN(w, r, 3); err != nil || out.String() != "abc" {
		t.Fatalf("%q, %v", out.String(), err)
	}
	stop()
	if n, err := r.Read(make([]byte, 3)); n != 0 || !errors.Is(err, context.Canceled) {
		t.Errorf("%d bytes were read, %v", n, err)
	}
	if n, err := w.Write([]byte("d")); n != 0 || !errors.Is(err, context.Canceled) || out.Len() != 3 {
		t.Errorf("%d bytes were written, %v", n, err)
	}
}
