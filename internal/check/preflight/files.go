package preflight

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"regexp"

	"piedmont/internal/check"
	"piedmont/internal/config"
)

// Names is the check names.
var Names = check.Check{Name: "names", Run: func(_ context.Context, p *check.Project) []check.Finding {
	if p.Plan == nil {
		var out []check.Finding
		for _, e := range p.PlanErrors {
			out = append(out, check.Stops(e, "correct "+config.FileName)...)
		}
		return out
	}
	return check.Fine(check.Count(len(p.Plan.Artifacts), "file") + ", and no two of one name")
}}

// secretForms look like what must not be in a release: private keys as
// RFC 7468, OpenSSH and OpenPGP write them, and tokens of a release page.
var secretForms = regexp.MustCompile(`-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----|\bpdm_[A-Za-z0-9_-]{43}\b`)

// scanned bounds how much of a file is looked at, in bytes.
const scanned = 4 << 20

// SecretsInFiles is the check secrets.
var SecretsInFiles = check.Check{Name: "secrets", Run: func(ctx context.Context, p *check.Project) []check.Finding {
	if p.Plan == nil {
		return nil
	}
	var bad []string
	files := p.Plan.ProjectFiles()
	for _, name := range files {
		if ctx.Err() != nil {
			return check.Failed(ctx.Err())
		}
		found, err := holdsSecret(filepath.Join(p.Doc.Dir, filepath.FromSlash(name)))
		if err != nil {
			return check.Failed(err)
		}
		if found {
			bad = append(bad, name)
		}
	}
	if len(bad) > 0 {
		return check.Stops("what looks like a private key or a token would be packed: "+check.Some(bad, 6),
			"take it out of "+config.FileName+", and replace the secret if it was ever pushed")
	}
	return check.Fine("no private key or token in what is packed: " + check.Count(len(files), "file"))
}}

func holdsSecret(path string) (bool, error) {
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() {
		return false, nil // a link is packed as one
	}
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer func() { _ = f.Close() }()
	buf := make([]byte, 64<<10)
	var window []byte
	for total := 0; total < scanned; {
		n, err := f.Read(buf)
		total += n
		window = append(window, buf[:n]...)
		if (bytes.Contains(window, []byte("-----BEGIN ")) || bytes.Contains(window, []byte("pdm_"))) &&
			secretForms.Match(window) {
			return true, nil
		}
		if err != nil {
			return false, nil
		}
		window = bytes.Clone(window[max(0, len(window)-128):]) // one may stand across two reads
	}
	return false, nil
}
