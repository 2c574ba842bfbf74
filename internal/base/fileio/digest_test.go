package fileio

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

func TestSHA256(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	if _, err := SHA256(t.Context(), path); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file that is not there: %v", err)
	}
	if err := os.WriteFile(path, []byte("abc"), 0o644); err != nil {
		t.Fatal(err)
	}
	// FIPS 180-4, the example of one block.
	const want = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
	if got, err := SHA256(t.Context(), path); got != want || err != nil {
		t.Errorf("%s, %v", got, err)
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := SHA256(ctx, path); !errors.Is(err, context.Canceled) {
		t.Errorf("after its context ended: %v", err)
	}
}
