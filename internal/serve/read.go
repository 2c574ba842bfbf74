package serve

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"piedmont/internal/base/httpx"
	"piedmont/internal/publish/layout"
	"piedmont/internal/release"
	"piedmont/internal/serve/api"
	"piedmont/internal/site"
)

// read answers everything that needs no token:
//
//	/                             the projects
//	/PROJECT/                     the latest release and the list of all
//	/PROJECT/feed.atom            the feed
//	/PROJECT/index.json           all releases for programs
//	/PROJECT/latest[/FILE]        sends on to the latest release
//	/PROJECT/VERSION/             a release
//	/PROJECT/VERSION/FILE         a file
func (s *Server) read(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		problem(w, api.Problem{Status: http.StatusMethodNotAllowed, Type: api.Method,
			Title: "Only reading is possible here"})
		return
	}
	parts := strings.Split(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if len(parts) == 1 && parts[0] == "" {
		s.home(w, r)
		return
	}
	on, ok := s.releases(parts[0])
	if !ok || len(parts) > 3 {
		s.missing(w)
		return
	}
	if len(parts) == 1 {
		http.Redirect(w, r, "/"+parts[0]+"/", http.StatusMovedPermanently)
		return
	}
	list, err := on.Releases(r.Context())
	if err != nil {
		s.fail(w, "read the releases", err)
		return
	}
	if len(list) == 0 {
		s.missing(w)
		return
	}
	x := site.Site{Releases: list, Base: s.base(r) + parts[0] + "/", Present: s.present}
	if len(parts) == 3 {
		s.release(w, r, x, parts)
		return
	}
	switch parts[1] {
	case "":
		page, err := x.Project()
		s.page(w, r, page, err)
	case "feed.atom":
		feed, err := x.Feed()
		s.dynamic(w, r, "application/atom+xml; charset=utf-8", feed, err)
	case "index.json":
		index, err := x.JSON()
		s.dynamic(w, r, "application/json", index, err)
	default:
		http.Redirect(w, r, "/"+parts[0]+"/"+url.PathEscape(parts[1])+"/", http.StatusFound)
	}
}

// release answers below /PROJECT/VERSION/.
func (s *Server) release(w http.ResponseWriter, r *http.Request, x site.Site, parts []string) {
	if parts[1] == "latest" {
		latest, _ := release.Latest(x.Releases)
		w.Header().Set("Cache-Control", "no-cache")
		http.Redirect(w, r, "/"+parts[0]+"/"+latest.Manifest.Version+"/"+url.PathEscape(parts[2]), http.StatusFound)
		return
	}
	for _, rel := range x.Releases {
		if rel.Manifest.Version != parts[1] {
			continue
		}
		if parts[2] == "" {
			page, err := x.Release(rel)
			s.page(w, r, page, err)
			return
		}
		s.file(w, r, parts[0], rel, parts[2])
		return
	}
	s.missing(w)
}

func (s *Server) file(w http.ResponseWriter, r *http.Request, project string, rel release.Release, name string) {
	path, ok := layout.Path(rel, name)
	if !ok {
		s.missing(w)
		return
	}
	f, err := os.Open(filepath.Join(s.data, "projects", project, filepath.FromSlash(path)))
	if err != nil {
		s.fail(w, "open "+name, err)
		return
	}
	defer func() { _ = f.Close() }()
	h := w.Header()
	switch name {
	case release.Name:
		h.Set("Content-Type", "application/json")
		h.Set("ETag", `"`+rel.Record.Manifest+`"`)
		h.Set("Repr-Digest", httpx.ReprDigest(rel.Record.Manifest))
	case release.SumsName:
		h.Set("Content-Type", "text/plain; charset=utf-8")
		h.Set("ETag", `"sums-`+rel.Record.Manifest+`"`)
	default:
		m, _ := rel.Manifest.File(name)
		h.Set("Content-Type", m.MediaType)
		h.Set("ETag", `"`+m.SHA256+`"`)
		h.Set("Repr-Digest", httpx.ReprDigest(m.SHA256))
	}
	h.Set("Cache-Control", "public, max-age=3600")
	http.ServeContent(&slowWriter{w, http.NewResponseController(w), s.limits.Idle}, r, "", rel.Published, f)
}

// slowWriter lets a download take its time as long as it moves.
type slowWriter struct {
	http.ResponseWriter
	c    *http.ResponseController
	idle time.Duration
}

func (s *slowWriter) Write(p []byte) (int, error) {
	_ = s.c.SetWriteDeadline(time.Now().Add(s.idle))
	return s.ResponseWriter.Write(p)
}

func (s *Server) home(w http.ResponseWriter, r *http.Request) {
	names, err := s.projects()
	if err != nil {
		s.fail(w, "list the projects", err)
		return
	}
	var projects []site.Site
	for _, name := range names {
		on, _ := s.releases(name)
		list, err := on.Releases(r.Context())
		if err != nil {
			s.fail(w, "read the releases", err)
			return
		}
		if len(list) > 0 {
			projects = append(projects, site.Site{Releases: list})
		}
	}
	page, err := site.Home(projects)
	s.page(w, r, page, err)
}

func (s *Server) page(w http.ResponseWriter, r *http.Request, page []byte, err error) {
	w.Header().Set("Content-Security-Policy", site.SecurityPolicy)
	s.dynamic(w, r, "text/html; charset=utf-8", page, err)
}

func (s *Server) dynamic(w http.ResponseWriter, r *http.Request, mediaType string, data []byte, err error) {
	if err != nil {
		s.fail(w, "draw the page", err)
		return
	}
	sum := sha256.Sum256(data)
	h := w.Header()
	h.Set("Content-Type", mediaType)
	h.Set("Cache-Control", "no-cache")
	h.Set("ETag", `"`+hex.EncodeToString(sum[:])+`"`)
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(string(data)))
}

func (s *Server) missing(w http.ResponseWriter) {
	page, err := site.Missing("/")
	if err != nil {
		s.fail(w, "draw the page", errors.Join(err))
		return
	}
	w.Header().Set("Content-Security-Policy", site.SecurityPolicy)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusNotFound)
	_, _ = w.Write(page)
}

// base is the server's public address with a slash at its end.
func (s *Server) base(r *http.Request) string {
	if s.address != "" {
		return strings.TrimSuffix(s.address, "/") + "/"
	}
	return "http://" + r.Host + "/"
}
