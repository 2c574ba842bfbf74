package serve

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"piedmont/internal/base/fileio"
	"piedmont/internal/release"
	"piedmont/internal/serve/api"
)

// Token is what the server keeps of a token: never the secret itself. The
// secret has 256 random bits, so a plain hash cannot be guessed back.
type Token struct {
	Name     string    `json:"name"`
	SHA256   string    `json:"sha256"`
	Projects []string  `json:"projects"` // "*" is every project
	Rights   []string  `json:"rights"`
	Created  time.Time `json:"created"`
}

// Tokens is the file tokens.json of a data folder. It is read again when it changes.
type Tokens struct {
	file  string
	mu    sync.Mutex
	stamp time.Time
	size  int64
	list  []Token
}

var tokenName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// OpenTokens gives the tokens of a data folder.
func OpenTokens(data string) *Tokens { return &Tokens{file: filepath.Join(data, "tokens.json")} }

// List gives all tokens.
func (t *Tokens) List() ([]Token, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	info, err := os.Stat(t.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if t.list != nil && info.ModTime().Equal(t.stamp) && info.Size() == t.size {
		return t.list, nil
	}
	data, err := os.ReadFile(t.file)
	if err != nil {
		return nil, err
	}
	var list []Token
	if err := json.Unmarshal(data, &list); err != nil {
		return nil, fmt.Errorf("%s is damaged: %w", t.file, err)
	}
	t.list, t.stamp, t.size = list, info.ModTime(), info.Size()
	return list, nil
}

// Add makes a token and returns its secret, which is kept nowhere.
func (t *Tokens) Add(name string, projects, rights []string, now time.Time) (string, error) {
	if !tokenName.MatchString(name) {
		return "", fmt.Errorf("%q cannot be a token's name: use letters, digits, dots, hyphens and underscores", name)
	}
	for _, p := range projects {
		if err := release.CheckProject(p); p != "*" && err != nil {
			return "", err
		}
	}
	for _, r := range rights {
		if !slices.Contains(api.Rights, r) {
			return "", fmt.Errorf("there is no right %q: there are upload, publish and withdraw", r)
		}
	}
	if len(projects) == 0 || len(rights) == 0 {
		return "", errors.New("a token needs a project and a right")
	}
	var secret [32]byte
	if _, err := rand.Read(secret[:]); err != nil {
		return "", err
	}
	text := "pdm_" + base64.RawURLEncoding.EncodeToString(secret[:])
	err := t.update(func(list []Token) ([]Token, error) {
		if slices.ContainsFunc(list, func(o Token) bool { return o.Name == name }) {
			return nil, fmt.Errorf("there is a token %q already", name)
		}
		return append(list, Token{name, hash(text), projects, rights, now.UTC().Truncate(time.Second)}), nil
	})
	return text, err
}

// Remove ends a token.
func (t *Tokens) Remove(name string) error {
	return t.update(func(list []Token) ([]Token, error) {
		i := slices.IndexFunc(list, func(o Token) bool { return o.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("there is no token %q", name)
		}
		return slices.Delete(slices.Clone(list), i, i+1), nil
	})
}

func (t *Tokens) update(change func([]Token) ([]Token, error)) error {
	if err := os.MkdirAll(filepath.Dir(t.file), 0o755); err != nil {
		return err
	}
	l := flock.New(t.file + ".lock")
	if err := l.Lock(); err != nil {
		return err
	}
	defer func() { _ = l.Unlock() }()
	list, err := t.List()
	if err != nil {
		return err
	}
	if list, err = change(list); err != nil {
		return err
	}
	data, err := json.MarshalIndent(list, "", "  ")
	if err != nil {
		return err
	}
	return fileio.Write(t.file, append(data, '\n'), 0o600)
}

// find gives the token of a secret.
func (t *Tokens) find(secret string) (Token, bool, error) {
	list, err := t.List()
	if err != nil {
		return Token{}, false, err
	}
	h := hash(secret)
	for _, o := range list {
		if subtle.ConstantTimeCompare([]byte(o.SHA256), []byte(h)) == 1 {
			return o, true, nil
		}
	}
	return Token{}, false, nil
}

func (t Token) forProject(name string) bool {
	return slices.Contains(t.Projects, "*") || slices.Contains(t.Projects, name)
}

func hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}
