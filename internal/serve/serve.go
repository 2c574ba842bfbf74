// Package serve is the release page: a server that takes releases over HTTP from
// those who may publish, and shows them to everybody. docs/release-page.md
// describes what it speaks, in full.
package serve

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"piedmont/internal/publish/layout"
	"piedmont/internal/publish/remote/local"
	"piedmont/internal/release"
	"piedmont/internal/serve/api"
	"piedmont/internal/site"
)

// Limits protect the server from its clients.
type Limits struct {
	Header  int           // bytes of a request's head
	Uploads int           // uploads at the same time; more are asked to come again
	Idle    time.Duration // longest silence within a request
	Rate    int64         // bytes a second that an upload reaches at least, on the whole
	Drafts  time.Duration // how long an untouched draft is kept
}

// DefaultLimits are those of "piedmont serve".
var DefaultLimits = Limits{Header: 16 << 10, Uploads: 32, Idle: 30 * time.Second, Rate: 4 << 10,
	Drafts: 7 * 24 * time.Hour}

// Server serves one data folder: projects/NAME has the releases of a project, and
// tokens.json holds the hashes of the tokens.
type Server struct {
	data    string
	address string // the public address with a slash at its end, or ""
	limits  Limits
	tokens  *Tokens
	uploads chan struct{}
	busy    sync.Map // project/draft/file that is being uploaded
	change  sync.Mutex
	layouts sync.Map // by project: *layout.Layout
	present site.Presenter
	lock    *flock.Flock
	log     func(string)
}

// Options of a server.
type Options struct {
	Data    string
	Address string // where readers reach it, for the feed; "" takes each request's own
	Limits  Limits
	Present site.Presenter    // places the files on a page; may be nil
	Log     func(line string) // one line for each change and each failure of the server itself; may be nil
}

// New opens a data folder, which only one server may have at a time.
func New(ctx context.Context, o Options) (*Server, error) {
	if err := os.MkdirAll(filepath.Join(o.Data, "projects"), 0o755); err != nil {
		return nil, fmt.Errorf("open the data folder: %w", err)
	}
	l := flock.New(filepath.Join(o.Data, "lock"))
	if ok, err := l.TryLock(); err != nil || !ok {
		return nil, errors.Join(fmt.Errorf("another server uses the data folder %s", o.Data), err)
	}
	if o.Log == nil {
		o.Log = func(string) {}
	}
	s := &Server{data: o.Data, address: o.Address, limits: o.Limits, tokens: OpenTokens(o.Data),
		uploads: make(chan struct{}, o.Limits.Uploads), lock: l, log: o.Log, present: o.Present}
	if err := s.tidy(ctx); err != nil {
		_ = l.Unlock()
		return nil, fmt.Errorf("tidy old drafts: %w", err)
	}
	return s, nil
}

// Close frees the data folder.
func (s *Server) Close() error { return s.lock.Unlock() }

// Serve answers on l until ctx ends, then lets running requests finish for a while.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	h := &http.Server{
		Handler:           s.Handler(),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    s.limits.Header,
	}
	done := make(chan error, 1)
	go func() { done <- h.Serve(l) }()
	tick := time.NewTicker(time.Hour)
	defer tick.Stop()
	for {
		select {
		case err := <-done:
			return err
		case <-tick.C:
			if err := s.tidy(ctx); err != nil {
				s.log("tidy old drafts: " + err.Error())
			}
		case <-ctx.Done():
			stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			if err := h.Shutdown(stop); err != nil {
				return h.Close()
			}
			return nil
		}
	}
}

// Handler is the whole server as one handler.
func (s *Server) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /api/{project}", s.rights)
	mux.HandleFunc("POST /api/{project}/drafts", s.openDraft)
	mux.HandleFunc("GET /api/{project}/drafts/{id}", s.showDraft)
	mux.HandleFunc("DELETE /api/{project}/drafts/{id}", s.dropDraft)
	mux.HandleFunc("PUT /api/{project}/drafts/{id}/{file}", s.upload)
	mux.HandleFunc("POST /api/{project}/drafts/{id}/publish", s.publish)
	mux.HandleFunc("/api/", func(w http.ResponseWriter, r *http.Request) {
		problem(w, api.Problem{Status: http.StatusNotFound, Type: api.Unknown,
			Title: "There is no such address", Detail: r.Method + " " + r.URL.Path})
	})
	mux.HandleFunc("/", s.read)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		// Every request must be answered in time; the handlers of large bodies
		// move these deadlines as the bytes flow.
		c := http.NewResponseController(w)
		_ = c.SetReadDeadline(time.Now().Add(s.limits.Idle))
		_ = c.SetWriteDeadline(time.Now().Add(s.limits.Idle))
		mux.ServeHTTP(w, r)
	})
}

// releases gives those of a project; false when it cannot be one's name.
func (s *Server) releases(project string) (*layout.Layout, bool) {
	if release.CheckProject(project) != nil {
		return nil, false
	}
	dir := filepath.Join(s.data, "projects", project)
	on := layout.On(local.FS{Dir: dir, Work: layout.DraftsDir})
	if _, err := os.Stat(dir); err != nil {
		return on, true // nothing to remember yet
	}
	one, _ := s.layouts.LoadOrStore(project, on)
	return one.(*layout.Layout), true
}

// projects lists the names that have a folder.
func (s *Server) projects() ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(s.data, "projects"))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		if e.IsDir() && release.CheckProject(e.Name()) == nil {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

func (s *Server) tidy(ctx context.Context) error {
	names, err := s.projects()
	if err != nil {
		return err
	}
	for _, name := range names {
		on, _ := s.releases(name)
		if err := on.Tidy(ctx, time.Now().Add(-s.limits.Drafts)); err != nil {
			return err
		}
	}
	return nil
}
