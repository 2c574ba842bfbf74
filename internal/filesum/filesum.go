// Package filesum takes digests of files.
package filesum

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"

	"piedmont/internal/ctxio"
)

// SHA256 reads a file and gives its digest in hexadecimal digits.
func SHA256(ctx context.Context, path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }()
	h := sha256.New()
	if _, err := io.Copy(h, ctxio.Reader(ctx, f)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
