package exe

import (
	"bytes"
	"slices"
	"strings"
)

// Scanner finds texts in a stream of bytes that is being read anyway, such as
// while a file is copied and its digests are taken.
type Scanner struct {
	texts   [][]byte
	folders [][]byte
	found   []bool
	paths   []string
	tail    []byte
	buf     []byte
}

const (
	overlap  = 512 // what is looked at again with the next bytes
	maxPaths = 8
)

// commonFolders are where build machines keep what they build. That alone is
// no proof, so a path counts only when it goes on for two more names.
var commonFolders = []string{"/home/", "/Users/", `:\Users\`, "/root/", "/build/", "/builds/", "/workspace/"}

// NewScanner looks for texts, and for paths below the given folders. Without
// folders, it looks for those that build machines commonly have.
func NewScanner(texts, folders []string) *Scanner {
	s := &Scanner{found: make([]bool, len(texts))}
	for _, t := range texts {
		s.texts = append(s.texts, []byte(t))
	}
	for _, f := range folders {
		if f = strings.TrimRight(f, `/\`); len(f) > 1 {
			s.folders = append(s.folders, []byte(f))
		}
	}
	if folders == nil {
		for _, f := range commonFolders {
			s.folders = append(s.folders, []byte(f))
		}
	}
	return s
}

// Write looks at the next bytes; it never fails.
func (s *Scanner) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 {
		n := min(len(p), 256<<10)
		s.buf = append(append(s.buf[:0], s.tail...), p[:n]...)
		s.look(s.buf)
		s.tail = append(s.tail[:0], s.buf[max(0, len(s.buf)-overlap):]...)
		p = p[n:]
	}
	return total, nil
}

func (s *Scanner) look(data []byte) {
	for i, t := range s.texts {
		if !s.found[i] && bytes.Contains(data, t) {
			s.found[i] = true
		}
	}
	for _, f := range s.folders {
		for from := 0; len(s.paths) < maxPaths; {
			at := bytes.Index(data[from:], f)
			if at < 0 {
				break
			}
			s.path(data, from+at, len(f))
			from += at + len(f)
		}
	}
}

// path takes the path that begins at a place, if it is one below a folder.
func (s *Scanner) path(data []byte, at, length int) {
	end := at + length
	for end < len(data) && end-at < 256 && pathByte(data[end]) {
		end++
	}
	text := string(data[at:end])
	rest := text[length:]
	last := text[length-1]
	if last == '/' || last == '\\' { // a common folder
		rest = strings.ReplaceAll(rest, `\`, "/")
		who, what, ok := strings.Cut(rest, "/")
		if !ok || len(who) < 2 || len(who) > 32 || len(what) < 2 || strings.ContainsAny(who, "%*$<{") {
			return
		}
		if at > 0 && data[at-1] > ' ' && data[at-1] < 0x7f && last == '/' && wordByte(data[at-1]) {
			return // the end of a longer path, or of an address
		}
	} else if rest != "" && rest[0] != '/' && rest[0] != '\\' {
		return // a folder whose name only begins like this one
	}
	for _, p := range s.paths {
		if branch(p) == branch(text) {
			return // one of each folder is enough
		}
	}
	s.paths = append(s.paths, text)
}

// branch is the part of a path that tells it from others: its first names.
func branch(p string) string {
	parts := strings.SplitN(strings.ReplaceAll(p, `\`, "/"), "/", 5)
	return strings.Join(parts[:min(len(parts), 4)], "/")
}

func pathByte(b byte) bool {
	return b > ' ' && b != 0x7f && !bytes.ContainsRune([]byte("\"'`<>|:;,()[]{}=?*"), rune(b))
}

func wordByte(b byte) bool {
	return b == '/' || b == '.' || b == '-' || b == '_' || b >= '0' && b <= '9' || b >= 'A' && b <= 'Z' ||
		b >= 'a' && b <= 'z'
}

// Found says whether the text with that number was there.
func (s *Scanner) Found(i int) bool { return i < len(s.found) && s.found[i] }

// Paths gives the first few paths, sorted.
func (s *Scanner) Paths() []string {
	out := slices.Clone(s.paths)
	slices.Sort(out)
	return out
}
