package preflight

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"regexp"

	"piedmont/internal/config"
)

var namesCheck = Check{"names", func(_ context.Context, p *Project) []Finding {
	if p.Plan == nil {
		var out []Finding
		for _, e := range p.PlanErrors {
			out = append(out, obstacle(e, "correct "+config.FileName)...)
		}
		return out
	}
	return ok(count(len(p.Plan.Files), "file") + ", and no two of one name")
}}

// secretForms look like what must not be in a release: private keys as
// RFC 7468, OpenSSH and OpenPGP write them, and tokens of a release page.
var secretForms = regexp.MustCompile(`-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----|\bpdm_[A-Za-z0-9_-]{43}\b`)

// scanned bounds how much of a file is looked at, in bytes.
const scanned = 4 << 20

var secretsInFilesCheck = Check{"secrets", func(ctx context.Context, p *Project) []Finding {
	if p.Plan == nil {
		return nil
	}
	var bad []string
	files := p.Plan.ProjectFiles()
	for _, name := range files {
		if ctx.Err() != nil {
			return failed(ctx.Err())
		}
		found, err := holdsSecret(filepath.Join(p.Config.Dir, filepath.FromSlash(name)))
		if err != nil {
			return failed(err)
		}
		if found {
			bad = append(bad, name)
		}
	}
	if len(bad) > 0 {
		return obstacle("what looks like a private key or a token would be packed: "+some(bad, 6), "take it out of "+config.FileName+", and replace the secret if it was ever pushed")
	}
	return ok("no private key or token in what is packed: " + count(len(files), "file"))
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
		if (bytes.Contains(window, []byte("-----BEGIN ")) || bytes.Contains(window, []byte("pdm_"))) && secretForms.Match(window) {
			return true, nil
		}
		if err != nil {
			return false, nil
		}
		window = bytes.Clone(window[max(0, len(window)-128):]) // one may stand across two reads
	}
	return false, nil
}
