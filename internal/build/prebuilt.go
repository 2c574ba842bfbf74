package build

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"piedmont/internal/plan"
)

// Prebuilt takes files that were made elsewhere.
type Prebuilt struct {
	Root   string
	Inputs *Inputs
}

// Key is a text over the file. A digest that was declared and does not match is
// an error.
func (p *Prebuilt) Key(b plan.Build) (string, error) {
	sum, _, err := p.Inputs.File(filepath.Join(p.Root, filepath.FromSlash(b.Prebuilt.File)))
	if err != nil {
		return "", fmt.Errorf("read %s: %w", b.Prebuilt.File, err)
	}
	if want := b.Prebuilt.SHA256; want != "" && sum != want {
		return "", fmt.Errorf("%s is another file than was declared: its SHA-256 is %s, and digest in [program.%s] says %s", b.Prebuilt.File, sum, b.Programs[0].Program, want)
	}
	key, err := json.Marshal([]any{"prebuilt/1", b.Target, b.Programs, sum})
	return string(key), err
}

// Build copies the file into dir.
func (p *Prebuilt) Build(_ context.Context, b plan.Build, dir string) error {
	in, err := os.Open(filepath.Join(p.Root, filepath.FromSlash(b.Prebuilt.File)))
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(filepath.Join(dir, b.Programs[0].File), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o755)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	return err
}
