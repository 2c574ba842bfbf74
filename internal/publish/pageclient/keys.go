package pageclient

import (
	"context"
	_ "embed"
	"fmt"
	"net"
	"net/url"
	"strings"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/fault"
	"piedmont/internal/base/secret"
	"piedmont/internal/config"
	"piedmont/internal/publish"
)

//go:embed keys.md
var docs string

// Kind is the kind of destination.
type Kind struct{}

// Keys are those of a release page.
type Keys struct {
	URL   string        `toml:"url" need:"yes"`
	Token config.Secret `toml:"token"`
}

// Name is the kind's.
func (Kind) Name() string { return "release-page" }

// Keys makes new ones.
func (Kind) Keys() any { return &Keys{} }

// Docs describe the keys.
func (Kind) Docs() []string { return []string{docs} }

// Check holds the address against what is one. An address from the environment is
// seen when it is used.
func (Kind) Check(f *config.Faults, k *publish.Keys, where string) {
	own := k.Own.(*Keys)
	if own.URL == "" || strings.HasPrefix(own.URL, "env:") {
		return
	}
	if err := checkAddress(own.URL); err != nil {
		f.Fail(where+".url", err.Error(), "")
	}
}

// checkAddress says why a token is not sent to an address; nil when it is.
func checkAddress(s string) error {
	if err := config.CheckAddress(s); err != nil {
		return err
	}
	u, err := url.Parse(s)
	if err != nil {
		return err
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme == "http" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("http:// would send the token readable over the network: use https://%s", u.Host)
	}
	return nil
}

// Where is the address as it is written.
func (Kind) Where(k *publish.Keys) string { return k.Own.(*Keys).URL }

// Open makes the destination, and fetches its token.
func (Kind) Open(ctx context.Context, env publish.Env, k *publish.Keys) (publish.Destination, error) {
	own := k.Own.(*Keys)
	address, err := addressOf(own, env.Env)
	if err != nil {
		return nil, err
	}
	place := own.Token.Place
	token, err := secret.Fetch(ctx, env.Root, env.Env, place)
	if err != nil {
		return nil, err
	}
	return New(address, token, place.String()), nil
}

func addressOf(k *Keys, env environ.Env) (string, error) {
	name, fromEnv := strings.CutPrefix(k.URL, "env:")
	if !fromEnv {
		return k.URL, nil
	}
	fix := "Set it: export " + name + "=https://…"
	address := env.Get(name)
	if address == "" {
		return "", fault.New(fmt.Sprintf("the environment variable %s, which holds the address, is not set", name), fix)
	}
	if err := checkAddress(address); err != nil {
		return "", fault.New(fmt.Sprintf("the address in the environment variable %s: %v", name, err), fix)
	}
	return address, nil
}
