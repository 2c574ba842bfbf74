// Package httpx is how Piedmont talks to servers: with a deadline on everything,
// a bounded number of tries with growing, jittered pauses, and respect for
// Retry-After.
package httpx

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Idle is how long a transfer may stand still.
const Idle = 60 * time.Second

// Client makes an http.Client whose every phase has a deadline. It follows no
// redirects when none is set, so that a token goes nowhere else.
func Client(redirects bool) *http.Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}).DialContext
	t.TLSHandshakeTimeout = 10 * time.Second
	t.ResponseHeaderTimeout = 2 * time.Minute
	t.MaxIdleConnsPerHost = 8
	t.WriteBufferSize = 256 << 10
	t.DisableCompression = true
	c := &http.Client{Transport: t}
	c.CheckRedirect = func(_ *http.Request, before []*http.Request) error {
		switch {
		case !redirects:
			return http.ErrUseLastResponse
		case len(before) >= maxRedirects:
			return errRedirects
		}
		return nil
	}
	return c
}

const maxRedirects = 10

var errRedirects = fmt.Errorf("it sends on more than %d times", maxRedirects)

// TemporaryError is worth another try, after a pause if the server named one.
type TemporaryError struct {
	Err   error
	After time.Duration
}

func (e *TemporaryError) Error() string { return e.Err.Error() }
func (e *TemporaryError) Unwrap() error { return e.Err }

// Patience says how often and how long to try again.
type Patience struct {
	Tries int // attempts without any progress
	First time.Duration
	Most  time.Duration // longest pause, also one that a server asks for
}

// DefaultPatience gives up after about ten seconds without progress, unless the
// server asks for longer pauses.
var DefaultPatience = Patience{Tries: 6, First: 300 * time.Millisecond, Most: 60 * time.Second}

// Retry calls do until it succeeds, fails for good, or made no progress for
// p.Tries attempts. do reports whether it moved something forward.
func Retry(ctx context.Context, p Patience, do func() (progress bool, err error)) error {
	next := p.First
	for failed := 0; ; {
		progress, err := do()
		if err == nil {
			return nil
		}
		var temporary *TemporaryError
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !errors.As(err, &temporary) {
			return err
		}
		if progress {
			failed = 0
			next = p.First
		}
		if failed++; failed >= p.Tries {
			return fmt.Errorf("%w (tried %d times)", err, failed)
		}
		pause := max(jittered(next), min(temporary.After, p.Most))
		next = min(2*next, p.Most)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Explain turns what the network said into a sentence, and says whether to try again.
func Explain(err error, address string) error {
	var dns *net.DNSError
	var op *net.OpError
	host := address
	if u, parseErr := url.Parse(address); parseErr == nil && u.Host != "" {
		host = u.Host
	}
	var u *url.Error
	exchange := errors.As(err, &u)
	if exchange {
		err = u.Err // without the address, which is said anyway
	}
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, syscall.ECONNREFUSED):
		return &TemporaryError{Err: fmt.Errorf("nothing answers at %s: is the server running, and is the "+
			"address right?", host)}
	case errors.As(err, &dns):
		return &TemporaryError{Err: fmt.Errorf("there is no host %s: is the address right, and is this "+
			"machine online?", host)}
	case errors.Is(err, context.DeadlineExceeded), isTimeout(err):
		return &TemporaryError{Err: fmt.Errorf("%s did not answer in time", host)}
	case isFinal(err):
		return fmt.Errorf("%s: %w", host, err)
	case exchange, errors.As(err, &op), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, ErrStalled):
		return &TemporaryError{Err: fmt.Errorf("the connection to %s broke: %w", host, err)}
	}
	return fmt.Errorf("%s: %w", host, err)
}

// isFinal knows what no second try mends: whom we talk to, or how.
func isFinal(err error) bool {
	var certificate *tls.CertificateVerificationError
	return errors.As(err, &certificate) || errors.Is(err, http.ErrSchemeMismatch) || errors.Is(err, errRedirects)
}

func isTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.As(err, &t) && t.Timeout()
}

// Status turns an answer's status into an error: temporary for those that may
// pass, with the pause that Retry-After asks for (RFC 9110, section 10.2.3).
func Status(r *http.Response, detail string) error {
	err := fmt.Errorf("the server answered %s", r.Status)
	if detail != "" {
		err = errors.New(detail)
	}
	if r.StatusCode >= 500 || r.StatusCode == http.StatusTooManyRequests || r.StatusCode == http.StatusRequestTimeout {
		return &TemporaryError{Err: err, After: retryAfter(r.Header.Get("Retry-After"), time.Now())}
	}
	return err
}

func retryAfter(h string, now time.Time) time.Duration {
	if n, err := strconv.Atoi(strings.TrimSpace(h)); err == nil && n >= 0 {
		return time.Duration(n) * time.Second
	}
	if t, err := http.ParseTime(h); err == nil {
		return max(0, t.Sub(now))
	}
	return 0
}

// ErrStalled means that a transfer stood still for too long.
var ErrStalled = errors.New("nothing moved for a minute")

// Watch ends a context when touch was not called for idle. stop must be called.
func Watch(ctx context.Context, idle time.Duration) (watched context.Context, touch, stop func()) {
	ctx, cancel := context.WithCancelCause(ctx)
	t := time.AfterFunc(idle, func() { cancel(ErrStalled) })
	var mu sync.Mutex
	return ctx, func() { mu.Lock(); t.Reset(idle); mu.Unlock() }, func() { t.Stop(); cancel(nil) }
}

// Reader calls touch for each piece that is read.
type Reader struct {
	R     io.Reader
	Touch func(n int)
}

func (r *Reader) Read(p []byte) (int, error) {
	n, err := r.R.Read(p)
	r.Touch(n)
	return n, err
}

// ReprDigest writes a SHA-256 in hex as the field Repr-Digest has it (RFC 9530).
func ReprDigest(hexDigest string) string {
	b, err := hex.DecodeString(hexDigest)
	if err != nil {
		return ""
	}
	return "sha-256=:" + base64.StdEncoding.EncodeToString(b) + ":"
}

// FromReprDigest gives the SHA-256 in hex that a Repr-Digest carries, "" when there is none.
func FromReprDigest(field string) string {
	for _, part := range strings.Split(field, ",") {
		v, ok := strings.CutPrefix(strings.TrimSpace(part), "sha-256=:")
		b, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(v, ":"))
		if ok && err == nil && len(b) == 32 {
			return hex.EncodeToString(b)
		}
	}
	return ""
}

// jittered is a pause of between 60 and 140 percent, so that clients that failed
// together do not come again together.
func jittered(d time.Duration) time.Duration {
	return time.Duration((0.6 + 0.8*rand.Float64()) * float64(d))
}
