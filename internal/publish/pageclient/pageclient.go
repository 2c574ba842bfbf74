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

	"piedmont/internal/base/httpx"
	"piedmont/internal/publish"
	"piedmont/internal/release"
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

// problem is an error answer (RFC 9457) as far as the protocol uses it.
type problem struct {
	Type        string   `json:"type"`
	Title       string   `json:"title"`
	Detail      string   `json:"detail"`
	Differences []string `json:"differences"`
	Missing     []string `json:"missing"`
}

type fileState struct {
	Name     string `json:"name"`
	SHA256   string `json:"sha256"`
	Received int64  `json:"received"`
	Complete bool   `json:"complete"`
}

type draftState struct {
	ID    string      `json:"id"`
	State string      `json:"state"`
	Files []fileState `json:"files"`
}

// Begin opens the draft with the manifest.
func (p *Page) Begin(ctx context.Context, m *release.Manifest, encoded []byte) (publish.Draft, error) {
	d := &draft{page: p, m: m}
	var state draftState
	if err := p.call(ctx, m, http.MethodPost, "drafts", encoded, &state); err != nil {
		return nil, err
	}
	if b, err := hex.DecodeString(state.ID); err != nil || len(b) == 0 || len(b) > 64 {
		return nil, &publish.Refusal{Reason: p.URL + " does not answer as a release page: its draft has no proper id", Mend: "Is the address that of a release page?"}
	}
	d.id, d.first = state.ID, &state
	return d, nil
}

type draft struct {
	page  *Page
	m     *release.Manifest
	id    string
	first *draftState // the answer of Begin serves the first State
}

func (d *draft) Close() error { return nil }

func (d *draft) State(ctx context.Context) (publish.State, error) {
	var s draftState
	if d.first != nil {
		s, d.first = *d.first, nil
	} else if err := d.page.call(ctx, d.m, http.MethodGet, "drafts/"+d.id, nil, &s); err != nil {
		return publish.State{}, err
	}
	out := publish.State{Public: s.State == "public", Files: map[string]publish.FileState{}}
	for _, f := range s.Files {
		want, ok := d.m.File(f.Name)
		if !ok || f.Received < 0 || f.Received > want.Size {
			return out, fmt.Errorf("%s answered with an impossible state of %q", d.page.URL, f.Name)
		}
		out.Files[f.Name] = publish.FileState{Received: f.Received, Complete: f.Complete, SHA256: f.SHA256}
	}
	return out, nil
}

func (d *draft) Put(ctx context.Context, f release.File, offset int64, r io.Reader) (string, error) {
	ctx, touch, stop := httpx.Watch(ctx, httpx.Idle)
	defer stop()
	body := &httpx.Reader{R: r, Touch: func(int) { touch() }}
	req, err := d.page.request(ctx, d.m, http.MethodPut, "drafts/"+d.id+"/"+f.Name, body)
	if err != nil {
		return "", err
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
		return "", httpx.Explain(err, d.page.URL)
	}
	defer func() { _ = resp.Body.Close() }()
	if resp.StatusCode == http.StatusAccepted {
		return "", nil
	}
	if resp.StatusCode != http.StatusCreated && resp.StatusCode != http.StatusOK {
		return "", d.page.refusal(d.m, resp)
	}
	digest := httpx.FromReprDigest(resp.Header.Get("Repr-Digest"))
	if digest == "" {
		digest = "of nothing: it reported none" // never equal to a real one
	}
	return digest, nil
}

func (d *draft) Publish(ctx context.Context) (publish.Published, error) {
	var record struct {
		State    string `json:"state"`
		Manifest string `json:"manifest_sha256"`
	}
	if err := d.page.call(ctx, d.m, http.MethodPost, "drafts/"+d.id+"/publish", []byte{}, &record); err != nil {
		return publish.Published{}, err
	}
	return publish.Published{Where: fmt.Sprintf("%s/%s/%s/", d.page.URL, d.m.Project.Name, d.m.Version), Manifest: record.Manifest}, nil
}

func (p *Page) request(ctx context.Context, m *release.Manifest, method, path string, body io.Reader) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(p.URL+"/api/"+m.Project.Name+"/"+path, "/"), body)
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
		return &publish.Refusal{Reason: p.URL + " does not answer as a release page", Mend: "Is the address that of a release page?"}
	}
	return nil
}

// refusal turns an error answer into an error: what passes may be tried again.
func (p *Page) refusal(m *release.Manifest, resp *http.Response) error {
	data, _ := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	var q problem
	if json.Unmarshal(data, &q) != nil {
		q = problem{}
	}
	kind := q.Type[strings.LastIndexByte(q.Type, ':')+1:]
	said := strings.TrimSuffix(strings.Join(filled(q.Title, q.Detail), ": "), ".")
	switch {
	case resp.StatusCode == http.StatusUnauthorized:
		if p.Token == "" {
			return &publish.Refusal{Reason: fmt.Sprintf("%s wants a token and none is given", p.URL), Mend: "Add token = \"env:NAME\" to the destination"}
		}
		return &publish.Refusal{Reason: fmt.Sprintf("%s does not accept the token of %s", p.URL, p.Source), Mend: "Ask whoever runs the page for a token of this project"}
	case resp.StatusCode == http.StatusForbidden:
		return &publish.Refusal{Reason: fmt.Sprintf("%s refuses: %s", p.URL, said), Mend: "Publishing needs the rights upload and publish"}
	case kind == "conflict":
		return publish.Conflict(p.URL, m.Version, q.Differences)
	case kind == "busy", kind == "offset":
		return &httpx.TemporaryError{Err: fmt.Errorf("%s: %s", p.URL, said), After: time.Second}
	case resp.StatusCode >= 300 && resp.StatusCode < 400:
		return &publish.Refusal{Reason: fmt.Sprintf("%s sends on to another address", p.URL), Mend: "A token is sent to no other place. Put the page's own address into the configuration"}
	case resp.StatusCode >= 500, resp.StatusCode == http.StatusTooManyRequests, resp.StatusCode == http.StatusRequestTimeout:
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
	return &publish.Refusal{Reason: fmt.Sprintf("%s refuses: %s", p.URL, said)}
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
