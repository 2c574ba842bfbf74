package serve

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"piedmont/internal/base/httpx"
	"piedmont/internal/publish/layout"
	"piedmont/internal/release"
	"piedmont/internal/serve/api"
)

func problem(w http.ResponseWriter, p api.Problem) {
	p.Type = api.TypePrefix + p.Type
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the client may be gone
}

// fail answers an error of the server itself; what it was stays in the log.
func (s *Server) fail(w http.ResponseWriter, doing string, err error) {
	s.log(doing + ": " + err.Error())
	problem(w, api.Problem{Status: http.StatusInternalServerError, Type: api.Server, Title: "The server failed",
		Detail: doing + " failed; its log says why"})
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

// allow checks the token for a right ("" for any) and answers when it does not do.
func (s *Server) allow(w http.ResponseWriter, r *http.Request, right string) (Token, bool) {
	secret, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	refuse := func(detail string) (Token, bool) {
		w.Header().Set("WWW-Authenticate", `Bearer realm="releases"`)
		problem(w, api.Problem{Status: http.StatusUnauthorized, Type: api.Token,
			Title: "A valid token is needed", Detail: detail})
		return Token{}, false
	}
	if !ok || secret == "" {
		return refuse("the request carries no bearer token")
	}
	t, found, err := s.tokens.find(secret)
	if err != nil {
		s.fail(w, "read the tokens", err)
		return t, false
	}
	if !found {
		return refuse("this token is not known here")
	}
	project := r.PathValue("project")
	if !t.forProject(project) || (right != "" && !slices.Contains(t.Rights, right)) {
		detail := fmt.Sprintf("the token %q lacks the right %q for the project %q", t.Name, right, project)
		if right == "" {
			detail = fmt.Sprintf("the token %q is not for the project %q", t.Name, project)
		}
		problem(w, api.Problem{Status: http.StatusForbidden, Type: api.Right,
			Title: "The token does not allow this", Detail: detail})
		return t, false
	}
	return t, true
}

func (s *Server) rights(w http.ResponseWriter, r *http.Request) {
	if t, ok := s.allow(w, r, ""); ok {
		answer(w, http.StatusOK, api.RightsAnswer{Project: r.PathValue("project"), Token: t.Name,
			Rights: t.Rights, Time: time.Now().UTC()})
	}
}

// show answers with the state of a draft.
func (s *Server) show(w http.ResponseWriter, r *http.Request, status int, d *layout.Draft) {
	files, err := d.State(r.Context())
	if err != nil {
		s.fail(w, "look at a draft", err)
		return
	}
	state := release.StateDraft
	if d.Public {
		state = release.StatePublic
	}
	answer(w, status, api.Draft{ID: d.ID, Project: d.Manifest.Project.Name, Version: d.Manifest.Version,
		State: state, Files: files})
}

func (s *Server) openDraft(w http.ResponseWriter, r *http.Request) {
	if _, ok := s.allow(w, r, api.RightUpload); !ok {
		return
	}
	on, ok := s.releases(r.PathValue("project"))
	if !ok {
		problem(w, api.Problem{Status: http.StatusNotFound, Type: api.Unknown,
			Title: "This cannot be a project's name"})
		return
	}
	m, encoded, err := release.Read(http.MaxBytesReader(w, r.Body, release.MaxSize+1))
	if err != nil {
		problem(w, api.Problem{Status: http.StatusBadRequest, Type: api.Manifest,
			Title: "The manifest is refused", Detail: err.Error()})
		return
	}
	if m.Project.Name != r.PathValue("project") {
		problem(w, api.Problem{Status: http.StatusBadRequest, Type: api.Manifest,
			Title: "The manifest is refused", Detail: fmt.Sprintf("it is of the project %q", m.Project.Name)})
		return
	}
	s.change.Lock()
	d, err := on.Begin(r.Context(), encoded)
	s.change.Unlock()
	if s.refused(w, err, "open a draft") {
		return
	}
	w.Header().Set("Location", "/api/"+r.PathValue("project")+"/drafts/"+d.ID)
	s.show(w, r, http.StatusCreated, d)
}

// refused answers the errors of a layout, and says whether there was one.
func (s *Server) refused(w http.ResponseWriter, err error, doing string) bool {
	var conflict *layout.ConflictError
	var incomplete *layout.IncompleteError
	var mismatch *layout.MismatchError
	var offset *layout.OffsetError
	switch {
	case err == nil:
		return false
	case errors.Is(err, layout.ErrUnknown):
		problem(w, api.Problem{Status: http.StatusNotFound, Type: api.Unknown, Title: "There is no such draft or file"})
	case errors.As(err, &conflict):
		problem(w, api.Problem{Status: http.StatusConflict, Type: api.Conflict,
			Title: "This version is public with other files", Detail: conflict.Error(),
			Differences: conflict.Differences})
	case errors.As(err, &incomplete):
		problem(w, api.Problem{Status: http.StatusConflict, Type: api.Incomplete,
			Title: "The draft is not complete", Detail: incomplete.Error(), Missing: incomplete.Missing})
	case errors.As(err, &mismatch):
		problem(w, api.Problem{Status: http.StatusUnprocessableEntity, Type: api.Digest,
			Title: "The bytes do not match the manifest", Detail: mismatch.Error()})
	case errors.As(err, &offset):
		problem(w, api.Problem{Status: http.StatusConflict, Type: api.Offset,
			Title: "The upload does not go on where it ended", Detail: offset.Error(), Received: &offset.Want})
	case errors.Is(err, layout.ErrTooLong):
		problem(w, api.Problem{Status: http.StatusRequestEntityTooLarge, Type: api.Size,
			Title: "The body is longer than the manifest says"})
	default:
		s.fail(w, doing, err)
	}
	return true
}

// draft finds the draft that a request names.
func (s *Server) draft(w http.ResponseWriter, r *http.Request, right string) (*layout.Draft, bool) {
	if _, ok := s.allow(w, r, right); !ok {
		return nil, false
	}
	on, ok := s.releases(r.PathValue("project"))
	if !ok {
		s.refused(w, layout.ErrUnknown, "")
		return nil, false
	}
	d, err := on.Draft(r.Context(), r.PathValue("id"))
	if s.refused(w, err, "find a draft") {
		return nil, false
	}
	return d, true
}

func (s *Server) showDraft(w http.ResponseWriter, r *http.Request) {
	if d, ok := s.draft(w, r, api.RightUpload); ok {
		s.show(w, r, http.StatusOK, d)
	}
}

func (s *Server) dropDraft(w http.ResponseWriter, r *http.Request) {
	d, ok := s.draft(w, r, api.RightUpload)
	if !ok {
		return
	}
	s.change.Lock()
	defer s.change.Unlock()
	if err := d.Abandon(r.Context()); err != nil {
		s.fail(w, "remove a draft", err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (s *Server) publish(w http.ResponseWriter, r *http.Request) {
	if _, ok := s.allow(w, r, api.RightPublish); !ok {
		return
	}
	on, ok := s.releases(r.PathValue("project"))
	if !ok {
		s.refused(w, layout.ErrUnknown, "")
		return
	}
	s.change.Lock()
	defer s.change.Unlock()
	d, err := on.Draft(r.Context(), r.PathValue("id"))
	if s.refused(w, err, "find a draft") {
		return
	}
	rel, err := d.Publish(r.Context(), time.Now())
	if s.refused(w, err, "publish") {
		return
	}
	s.log(fmt.Sprintf("%s %s is public, %d files", d.Manifest.Project.Name, d.Manifest.Version, len(d.Manifest.Files)))
	answer(w, http.StatusOK, rel.Record)
}

func (s *Server) upload(w http.ResponseWriter, r *http.Request) {
	d, ok := s.draft(w, r, api.RightUpload)
	if !ok {
		return
	}
	name := r.PathValue("file")
	f, ok := d.Manifest.File(name)
	if !ok {
		s.refused(w, layout.ErrUnknown, "")
		return
	}
	offset, length, err := contentRange(r, f.Size)
	if err != nil {
		problem(w, api.Problem{Status: http.StatusBadRequest, Type: api.Range,
			Title: "The Content-Range is refused", Detail: err.Error()})
		return
	}
	if r.ContentLength > length {
		problem(w, api.Problem{Status: http.StatusRequestEntityTooLarge, Type: api.Size,
			Title:  "The body is longer than the manifest says",
			Detail: fmt.Sprintf("%s has %d bytes in the manifest", name, f.Size)})
		return
	}
	if want := r.Header.Get("Repr-Digest"); want != "" && httpx.FromReprDigest(want) != f.SHA256 {
		problem(w, api.Problem{Status: http.StatusUnprocessableEntity, Type: api.Digest,
			Title: "The Repr-Digest is not that of the manifest", Detail: name})
		return
	}
	select {
	case s.uploads <- struct{}{}:
		defer func() { <-s.uploads }()
	default:
		w.Header().Set("Retry-After", "1")
		problem(w, api.Problem{Status: http.StatusServiceUnavailable, Type: api.Busy,
			Title: "Too many uploads at once", Detail: "come again in a second"})
		return
	}
	key := r.PathValue("project") + "/" + d.ID + "/" + name
	if _, taken := s.busy.LoadOrStore(key, true); taken {
		w.Header().Set("Retry-After", "1")
		problem(w, api.Problem{Status: http.StatusConflict, Type: api.Busy,
			Title: "This file is being uploaded by somebody else", Detail: name})
		return
	}
	defer s.busy.Delete(key)
	got, err := d.Put(r.Context(), name, offset, s.paced(w, r, length))
	if bodyError(err) || r.Context().Err() != nil {
		problem(w, api.Problem{Status: http.StatusRequestTimeout, Type: api.BrokenOff,
			Title: "The body broke off", Detail: "what arrived is kept: ask for the draft and go on from there"})
		return
	}
	if s.refused(w, err, "keep a file") {
		return
	}
	if !got.Complete {
		got.SHA256 = f.SHA256
		answer(w, http.StatusAccepted, got)
		return
	}
	w.Header().Set("Repr-Digest", httpx.ReprDigest(got.SHA256))
	answer(w, http.StatusCreated, got)
}

// contentRange reads where a body belongs: the whole file, or the range that a
// partial PUT names (RFC 9110, section 14.5).
func contentRange(r *http.Request, size int64) (offset, length int64, err error) {
	h := r.Header.Get("Content-Range")
	if h == "" {
		return 0, size, nil
	}
	spec, ok := strings.CutPrefix(h, "bytes ")
	span, total, ok2 := strings.Cut(spec, "/")
	first, last, ok3 := strings.Cut(span, "-")
	from, err1 := strconv.ParseInt(first, 10, 64)
	to, err2 := strconv.ParseInt(last, 10, 64)
	whole, err3 := strconv.ParseInt(total, 10, 64)
	if !ok || !ok2 || !ok3 || errors.Join(err1, err2, err3) != nil || from < 0 || to < from || whole != size ||
		to >= size {
		return 0, 0, fmt.Errorf("%q does not fit a file of %d bytes", h, size)
	}
	return from, to - from + 1, nil
}

// errBody wraps what went wrong while the client sent.
type errBody struct{ error }

func (e errBody) Unwrap() error { return e.error }

func bodyError(err error) bool {
	var b errBody
	return errors.As(err, &b)
}

// paced reads a body and moves the deadlines along: the client may neither fall
// silent nor be slower on the whole than the server's limit.
func (s *Server) paced(w http.ResponseWriter, r *http.Request, length int64) io.Reader {
	c := http.NewResponseController(w)
	end := time.Now().Add(2*s.limits.Idle + time.Duration(length/s.limits.Rate)*time.Second)
	return readerFunc(func(p []byte) (int, error) {
		next := time.Now().Add(s.limits.Idle)
		if next.After(end) {
			next = end
		}
		_ = c.SetReadDeadline(next)
		_ = c.SetWriteDeadline(next.Add(s.limits.Idle))
		n, err := r.Body.Read(p)
		if err != nil && err != io.EOF {
			err = errBody{err}
		}
		return n, err
	})
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }
