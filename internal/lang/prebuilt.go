package lang

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"

	"piedmont/internal/plan"
)

// Prebuilt takes files that were made elsewhere.
type Prebuilt struct {
	Root   string
	Inputs *Inputs
}

// Digest is the file's SHA-256.
func (p *Prebuilt) Digest(ctx context.Context, b plan.Build) (string, error) {
	sum, _, err := p.Inputs.File(ctx, p.Path(b))
	if err != nil {
		return "", fmt.Errorf("read %s: %w", b.Prebuilt.File, err)
	}
	return sum, nil
}

// Key is a text over the file. A digest that was declared and does not match is
// an error.
func (p *Prebuilt) Key(ctx context.Context, b plan.Build) (string, error) {
	sum, err := p.Digest(ctx, b)
	if err != nil {
		return "", err
	}
	if want := b.Prebuilt.SHA256; want != "" && sum != want {
		return "", fmt.Errorf("%s is another file than was declared: its SHA-256 is %s, and digest in [program.%s] says %s", b.Prebuilt.File, sum, b.Programs[0].Program, want)
	}
	key, err := json.Marshal([]any{"prebuilt/1", b.Target, b.Programs, sum})
	return string(key), err
}

// Path is where the file is.
func (p *Prebuilt) Path(b plan.Build) string {
	return filepath.Join(p.Root, filepath.FromSlash(b.Prebuilt.File))
}
