package verify

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strings"

	"piedmont/internal/base/httpx"
	"piedmont/internal/release"
)

// URL verifies a release at an address: that of its page, of its manifest, or
// of its project, whose latest release is meant then.
func URL(ctx context.Context, address string, o Options) (*Report, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil {
		return nil, fmt.Errorf("%q is not an address of a release", address)
	}
	client := httpx.Client(true)
	base := strings.TrimSuffix(strings.TrimSuffix(u.String(), release.Name), "/")
	for _, try := range []string{base, base + "/latest"} {
		r := &remote{client: client, base: try}
		// The way to the manifest may lead on; the files are where it ends.
		where, err := r.locate(ctx)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		r.base = where
		return run(ctx, r, where+"/", o)
	}
	return nil, fmt.Errorf("there is no release at %s: neither it nor its \"latest\" has a %s", address, release.Name)
}

type remote struct {
	client *http.Client
	base   string
}

func (r *remote) list() ([]string, error) { return nil, nil }

func (r *remote) locate(ctx context.Context) (string, error) {
	var where string
	err := httpx.Retry(ctx, httpx.DefaultPatience, func() (bool, error) {
		resp, err := r.get(ctx, release.Name, 0, "")
		if err != nil {
			return false, err
		}
		_ = resp.Body.Close()
		where = strings.TrimSuffix(resp.Request.URL.String(), "/"+release.Name)
		return false, nil
	})
	return where, err
}

// get asks for a file from an offset on; tag makes sure it is still the same one.
func (r *remote) get(ctx context.Context, name string, offset int64, tag string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.base+"/"+url.PathEscape(name), nil)
	if err != nil {
		return nil, err
	}
	if offset > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", offset))
		req.Header.Set("If-Range", tag)
	}
	resp, err := r.client.Do(req)
	if err != nil {
		return nil, httpx.Explain(err, r.base)
	}
	switch {
	case resp.StatusCode == http.StatusOK && offset == 0, resp.StatusCode == http.StatusPartialContent && offset > 0:
		return resp, nil
	case resp.StatusCode == http.StatusNotFound:
		err = fs.ErrNotExist
	case resp.StatusCode == http.StatusOK:
		err = fmt.Errorf("%s changed while it was read", name)
	default:
		err = httpx.Status(resp, fmt.Sprintf("%s/%s: the server answered %s", r.base, name, resp.Status))
	}
	_ = resp.Body.Close()
	return nil, err
}

func (r *remote) open(ctx context.Context, name string) (io.ReadCloser, error) {
	d := &download{r: r, name: name}
	d.ctx, d.touch, d.stop = httpx.Watch(ctx, httpx.Idle)
	err := httpx.Retry(ctx, httpx.DefaultPatience, func() (bool, error) { return false, d.connect() })
	if err != nil {
		d.stop()
		return nil, err
	}
	return d, nil
}

// download reads a file and goes on where a connection broke.
type download struct {
	r      *remote
	name   string
	ctx    context.Context
	touch  func()
	stop   func()
	body   io.ReadCloser
	tag    string
	done   int64
	breaks int // in a row, without a byte between them
}

func (d *download) connect() error {
	resp, err := d.r.get(d.ctx, d.name, d.done, d.tag)
	if err != nil {
		return err
	}
	d.body, d.tag = resp.Body, resp.Header.Get("ETag")
	return nil
}

func (d *download) Read(p []byte) (int, error) {
	n, err := d.body.Read(p)
	d.done += int64(n)
	if n > 0 {
		d.breaks = 0
		d.touch()
	}
	if err == nil || err == io.EOF {
		return n, err
	}
	if n > 0 {
		return n, nil // the next call meets the error again
	}
	explained := httpx.Explain(err, d.r.base)
	var temporary *httpx.TemporaryError
	if d.breaks++; !errors.As(explained, &temporary) || d.tag == "" || d.breaks >= httpx.DefaultPatience.Tries {
		return 0, explained
	}
	_ = d.body.Close()
	if err := httpx.Retry(d.ctx, httpx.DefaultPatience, func() (bool, error) {
		return false,
			d.connect()
	}); err != nil {
		return 0, err
	}
	return 0, nil
}

func (d *download) Close() error {
	d.stop()
	return d.body.Close()
}
