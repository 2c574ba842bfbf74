package httpx

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net/http"
	"net/url"
	"syscall"
	"testing"
	"time"
)

var quick = Patience{Tries: 3, First: time.Millisecond, Most: 20 * time.Millisecond}

func TestRetry(t *testing.T) {
	passing := &TemporaryError{Err: errors.New("busy")}
	n := 0
	err := Retry(t.Context(), quick, func() (bool, error) {
		if n++; n < 3 {
			return false, passing
		}
		return false, nil
	})
	if err != nil || n != 3 {
		t.Errorf("%v after %d tries", err, n)
	}
	n = 0
	if err := Retry(t.Context(), quick, func() (bool, error) { n++; return false, passing }); err == nil || n != 3 {
		t.Errorf("without an end: %v after %d tries", err, n)
	}
	n = 0
	if err := Retry(t.Context(), quick, func() (bool, error) {
		n++
		return false,
			errors.New("final")
	}); err == nil || n != 1 {
		t.Errorf("a final no: %v after %d tries", err, n)
	}
	n = 0
	err = Retry(t.Context(), quick, func() (bool, error) {
		if n++; n > 10 {
			return true, nil
		}
		return true, passing
	})
	if err != nil {
		t.Errorf("progress each time: %v after %d tries", err, n)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := Retry(ctx, quick, func() (bool, error) { return false, passing }); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}

func TestRetryAfter(t *testing.T) {
	now := time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)
	for h, want := range map[string]time.Duration{"": 0, "3": 3 * time.Second, "-1": 0, "soon": 0,
		"Sat, 02 May 2026 07:30:10 GMT": 10 * time.Second, "Sat, 02 May 2026 07:29:00 GMT": 0} {
		if got := retryAfter(h, now); got != want {
			t.Errorf("%q: %s, want %s", h, got, want)
		}
	}
	start := time.Now()
	n := 0
	_ = Retry(t.Context(), quick, func() (bool, error) {
		if n++; n > 1 {
			return false, nil
		}
		return false, &TemporaryError{errors.New("later"), time.Hour} // bounded by the patience
	})
	if d := time.Since(start); d < quick.Most || n != 2 {
		t.Errorf("%d tries in %s", n, d)
	}
}

func TestWhatIsTemporary(t *testing.T) {
	var temporary *TemporaryError
	for _, err := range []error{syscall.ECONNREFUSED, io.ErrUnexpectedEOF, io.EOF, ErrStalled,
		context.DeadlineExceeded} {
		if !errors.As(Explain(err, "http://127.0.0.1:1/x"), &temporary) {
			t.Errorf("%v is not tried again", err)
		}
	}
	broken := &url.Error{Op: "Get", Err: errors.New("http: server closed idle connection")}
	if !errors.As(Explain(broken, "http://127.0.0.1:1/x"), &temporary) {
		t.Error("a broken exchange is not tried again")
	}
	for _, err := range []error{&tls.CertificateVerificationError{Err: errors.New("not trusted")},
		http.ErrSchemeMismatch, errRedirects} {
		if errors.As(Explain(&url.Error{Op: "Get", Err: err}, "https://x.example"), &temporary) {
			t.Errorf("%v is tried again", err)
		}
	}
	for code, want := range map[int]bool{400: false, 404: false, 408: true, 409: false, 429: true, 500: true,
		503: true} {
		err := Status(&http.Response{StatusCode: code, Header: http.Header{}}, "")
		if errors.As(err, &temporary) != want {
			t.Errorf("%d: temporary %v", code, !want)
		}
	}
}

func TestWatch(t *testing.T) {
	ctx, touch, stop := Watch(t.Context(), 30*time.Millisecond)
	defer stop()
	for range 5 {
		time.Sleep(10 * time.Millisecond)
		touch()
	}
	if ctx.Err() != nil {
		t.Error("a transfer that moves was ended")
	}
	<-ctx.Done()
	if !errors.Is(context.Cause(ctx), ErrStalled) {
		t.Errorf("ended for %v", context.Cause(ctx))
	}
}
