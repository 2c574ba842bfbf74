package release

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// Sums writes SHA256SUMS as GNU sha256sum reads it: every file of the manifest
// and the manifest itself, sorted by name. encoded is the manifest as published.
func (m *Manifest) Sums(encoded []byte) []byte {
	own := sha256.Sum256(encoded)
	lines := []string{hex.EncodeToString(own[:]) + "  " + Name}
	for _, f := range m.Files {
		lines = append(lines, f.SHA256+"  "+f.Name)
	}
	slices.SortFunc(lines, func(a, b string) int { return strings.Compare(a[66:], b[66:]) })
	return []byte(strings.Join(lines, "\n") + "\n")
}

// ParseSums reads a SHA256SUMS file into name → digest.
func ParseSums(data []byte) (map[string]string, error) {
	sums := map[string]string{}
	scan := bufio.NewScanner(bytes.NewReader(data))
	for n := 1; scan.Scan(); n++ {
		line := strings.TrimSuffix(scan.Text(), "\r")
		if line == "" {
			continue
		}
		if len(line) < 67 || !isHex(line[:64], 32) || line[64] != ' ' || (line[65] != ' ' && line[65] != '*') {
			return nil, fmt.Errorf("%s line %d is not \"digest  name\"", SumsName, n)
		}
		sums[line[66:]] = line[:64]
	}
	return sums, scan.Err()
}
