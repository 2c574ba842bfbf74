package fileio

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
)

// SHA256 reads a file and gives its digest in hexadecimal digits.
func SHA256(ctx context.Context, path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }()
	h := sha256.New()
	if _, err := io.Copy(h, Reader(ctx, f)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
