// Package pageclient publishes to a release page over HTTP, as
// docs/release-page.md describes.
package pageclient

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"piedmont/internal/base/fault"
	"piedmont/internal/base/httpx"
	"piedmont/internal/publish"
	"piedmont/internal/release"
	"piedmont/internal/serve/api"
)

// Page is the destination.
type Page struct {
	URL    string // of the server, without a slash at its end
	Token  string
	Source string // where the token came from, for messages
	client *http.Client
}

// New makes the destination of a server's address.
func New(url, token, source string) *Page {
	return &Page{strings.TrimSuffix(url, "/"), token, source, httpx.Client(false)}
}

// maxAnswer bounds what a server can make us read.
const maxAnswer = 16 << 20

// callTimeout bounds a call without a large body.
const callTimeout = 2 * time.Minute

// Begin opens the draft with the manifest.
func (p *Page) Begin(ctx context.Context, o *publish.Outbox) (publish.Draft, error) {
	d := &draft{page: p, m: o.Manifest}
	var state api.Draft
	if err := p.call(ctx, o.Manifest, http.MethodPost, "drafts", o.Encoded, &state); err != nil {
		return nil, err
	}
	if b, err := hex.DecodeString(state.ID); err != nil || len(b) == 0 || len(b) > 64 {
		return nil, fault.New(p.URL+" does not answer as a release page: its draft has no proper id",
			"Is the address that of a release page?")
	}
	d.id, d.first = state.ID, &state
	return d, nil
}

type draft struct {
	page  *Page
	m     *release.Manifest
	id    string
	first *api.Draft // the answer of Begin serves the first State
}

func (d *draft) Close() error { return nil }

func (d *draft) State(ctx context.Context) (publish.State, error) {
	var s api.Draft
	if d.first != nil {
		s, d.first = *d.first, nil
	} else if err := d.page.call(ctx, d.m, http.MethodGet, "drafts/"+d.id, nil, &s); err != nil {
		return publish.State{}, err
	}
	out := publish.State{Public: s.State == release.StatePublic, Files: map[string]release.Receipt{}}
	for _, f := range s.Files {
		want, ok := d.m.File(f.Name)
		if !ok || f.Received < 0 || f.Received > want.Size {
			return out, fmt.Errorf("%s answered with an impossible state of %q", d.page.URL, f.Name)
		}
		f.Source = release.Reported
		out.Files[f.Name] = f
	}
	return out, nil
}

// Put sends one file from offset on.
func (d *draft) Put(ctx context.Context, f release.Artifact, offset int64, r io.Reader) (got release.Receipt,
	err error) {
	ctx, touch, stop := httpx.Watch(ctx, httpx.Idle)
	defer stop()
	body := &httpx.Reader{R: r, Touch: func(int) { touch() }}
	req, err := d.page.request(ctx, d.m, http.MethodPut, "drafts/"+d.id+"/"+f.Name, body)
	if err != nil {
		return got, err
	}
	req.ContentLength = f.Size - offset
	if req.ContentLength == 0 {
		req.Body = http.NoBody
	}
	req.Header.Set("Content-Type", f.MediaType)
	req.Header.Set("Repr-Digest", httpx.ReprDigest(f.SHA256))
	if offset > 0 {
		req.Header.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", offset, f.Size-1, f.Size))
	}
	// A server that refuses says so before the body is on its way.
	req.Header.Set("Expect", "100-continue")
	resp, err := d.page.client.Do(req)
	if err != nil {
		if cause := context.Cause(ctx); errors.Is(cause, httpx.ErrStalled) {
			err = cause
		}
		return got, httpx.Explain(err, d.page.URL)
	}
	defer func() { _ = resp.Body.Close() }()
	got = release.Receipt{Name: f.Name, Size: f.Size}
	switch resp.StatusCode {
	case http.StatusAccepted: // a part of it
		return got, nil
	case http.StatusCreated, http.StatusOK:
		got.Received, got.Complete = f.Size, true
		if got.SHA256 = httpx.FromReprDigest(resp.Header.Get("Repr-Digest")); got.SHA256 != "" {
			got.Source = release.Reported
		}
		return got, nil
	}
	return got, d.page.refusal(d.m, resp)
}

func (d *draft) Publish(ctx context.Context) (publish.Published, error) {
	var record release.Record
	if err := d.page.call(ctx, d.m, http.MethodPost, "drafts/"+d.id+"/publish", []byte{}, &record); err != nil {
		return publish.Published{}, err
	}
	return publish.Published{Where: fmt.Sprintf("%s/%s/%s/", d.page.URL, d.m.Project.Name, d.m.Version),
		Manifest: record.Manifest}, nil
}

func (p *Page) request(ctx context.Context, m *release.Manifest, method, path string,
	body io.Reader) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method,
		strings.TrimSuffix(p.URL+"/api/"+m.Project.Name+"/"+path, "/"), body)
	if err != nil {
		return nil, err
	}
	if p.Token != "" {
		req.Header.Set("Authorization", "Bearer "+p.Token)
	}
	req.Header.Set("Accept", "application/json, application/problem+json")
	return req, nil
}

// call makes a small request and reads its JSON answer.
func (p *Page) call(ctx context.Context, m *release.Manifest, method, path string, body []byte, into any) error {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	var r io.Reader
	if body != nil {
		r = bytes.NewReader(body)
	}
	req, err := p.request(ctx, m, method, path, r)
	if err != nil {
		return err
	}
	if len(body) > 0 {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := p.client.Do(req)
	if err != nil {
		return httpx.Explain(err, p.URL)
	}
	defer func() { _ = resp.Body.Close() }()
	if resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusCreated {
		return p.refusal(m, resp)
	}
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return httpx.Explain(err, p.URL)
	}
	if err := json.Unmarshal(data, into); err != nil {
		return fault.New(p.URL+" does not answer as a release page", "Is the address that of a release page?")
	}
	return nil
}

// refusal turns an error answer into an error: what passes may be tried again.
func (p *Page) refusal(m *release.Manifest, resp *http.Response) error {
	data, _ := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	var q api.Problem
	if json.Unmarshal(data, &q) != nil {
		q = api.Problem{}
	}
	kind := q.Type[strings.LastIndexByte(q.Type, ':')+1:]
	said := strings.TrimSuffix(strings.Join(filled(q.Title, q.Detail), ": "), ".")
	switch {
	case resp.StatusCode == http.StatusUnauthorized:
		if p.Token == "" {
			return fault.New(fmt.Sprintf("%s wants a token and none is given", p.URL),
				"Add token = \"env:NAME\" to the destination")
		}
		return fault.New(fmt.Sprintf("%s does not accept the token of %s", p.URL, p.Source),
			"Ask whoever runs the page for a token of this project")
	case resp.StatusCode == http.StatusForbidden:
		return fault.New(fmt.Sprintf("%s refuses: %s", p.URL, said), "Publishing needs the rights upload and publish")
	case kind == api.Conflict:
		return publish.Conflict(p.URL, m.Version, q.Differences)
	case kind == api.Busy, kind == api.Offset:
		return &httpx.TemporaryError{Err: fmt.Errorf("%s: %s", p.URL, said), After: time.Second}
	case resp.StatusCode >= 300 && resp.StatusCode < 400:
		return fault.New(fmt.Sprintf("%s sends on to another address", p.URL),
			"A token is sent to no other place. Put the page's own address into the configuration")
	case resp.StatusCode >= 500, resp.StatusCode == http.StatusTooManyRequests,
		resp.StatusCode == http.StatusRequestTimeout:
		if said != "" {
			said = fmt.Sprintf("%s answered %s: %s", p.URL, resp.Status, said)
		} else {
			said = fmt.Sprintf("%s answered %s", p.URL, resp.Status)
		}
		return httpx.Status(resp, said)
	}
	if said == "" {
		said = "it answered " + resp.Status
	}
	return fault.New(fmt.Sprintf("%s refuses: %s", p.URL, said), "")
}

func filled(texts ...string) []string {
	var out []string
	for _, t := range texts {
		if t != "" {
			out = append(out, t)
		}
	}
	return out
}
