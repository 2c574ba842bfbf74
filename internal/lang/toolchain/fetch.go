package toolchain

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"piedmont/internal/base/fileio"
	"piedmont/internal/base/httpx"
	"piedmont/internal/base/progress"
	"piedmont/internal/format/archive"
)

// shared is the folder in which all projects of a user share toolchains.
func (f *Finder) shared() (string, error) {
	if f.Cache != "" {
		return f.Cache, nil
	}
	cache, err := f.Env.Cache()
	if err != nil {
		return "", fmt.Errorf("no folder for toolchains: %w", err)
	}
	return filepath.Join(cache, "toolchains"), nil
}

// unpacked gives the folder of a toolchain's archive; with fetch, it is brought
// and unpacked where it is missing. The folder appears by rename, so that one
// which is there is whole.
func (f *Finder) unpacked(ctx context.Context, t *Keys, fetch bool) (string, error) {
	shared, err := f.shared()
	if err != nil {
		return "", err
	}
	dir := filepath.Join(shared, fmt.Sprintf("%s-%d", t.SHA256, t.Drop))
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if !fetch {
		return "", &NotFetchedError{t.Name, t.Archive[0]}
	}
	if err := os.MkdirAll(shared, 0o755); err != nil {
		return "", fmt.Errorf("make the folder for toolchains: %w", err)
	}
	l := flock.New(filepath.Join(shared, t.SHA256+".lock"))
	if got, err := l.TryLock(); err != nil {
		return "", fmt.Errorf("lock the toolchain: %w", err)
	} else if !got {
		f.note("waiting for another run that fetches [toolchain." + t.Name + "]")
		if _, err := l.TryLockContext(ctx, 100*time.Millisecond); err != nil {
			return "", err
		}
	}
	defer func() { _ = l.Unlock() }()
	if _, err := os.Stat(dir); err == nil {
		return dir, nil // another run brought it while this one waited
	}
	file, err := f.fetch(ctx, t, filepath.Join(shared, t.SHA256+".part"))
	if err != nil {
		return "", fmt.Errorf("[toolchain.%s]: %w", t.Name, err)
	}
	tmp, err := os.MkdirTemp(shared, "unpack-")
	if err != nil {
		return "", err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	if err := (archive.Unpacker{Drop: t.Drop}).Unpack(ctx, file, tmp, f.Readers...); err != nil {
		return "", fmt.Errorf("[toolchain.%s]: %w", t.Name, err)
	}
	if entries, err := os.ReadDir(tmp); err != nil || len(entries) == 0 {
		return "", fmt.Errorf("[toolchain.%s]: the archive holds nothing below %d folders: correct "+
			"\"drop-folders\"", t.Name, t.Drop)
	}
	if err := os.Chmod(tmp, 0o755); err != nil {
		return "", err
	}
	if err := os.Rename(tmp, dir); err != nil {
		return "", fmt.Errorf("keep the toolchain: %w", err)
	}
	_ = os.Remove(filepath.Join(shared, t.SHA256+".part"))
	return dir, fileio.SyncDir(shared)
}

func (f *Finder) note(text string) {
	if f.Events != nil {
		f.Events.Event(progress.Note{Text: text})
	}
}

// fetch tries one source after another, and gives a local file whose digest is
// the declared one.
func (f *Finder) fetch(ctx context.Context, t *Keys, part string) (string, error) {
	var faults []string
	for _, from := range t.Archive {
		f.note("fetching [toolchain." + t.Name + "] from " + from)
		file, err := f.download(ctx, from, part)
		if err == nil {
			err = checkDigest(ctx, file, t.SHA256)
			var wrong *digestError
			if errors.As(err, &wrong) && file == part {
				// What an earlier run left may be to blame: once more from the beginning.
				_ = os.Remove(part)
				if file, err = f.download(ctx, from, part); err == nil {
					if err = checkDigest(ctx, file, t.SHA256); err != nil {
						_ = os.Remove(part)
					}
				}
			}
		}
		if err == nil {
			return file, nil
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		faults = append(faults, fmt.Sprintf("%s: %v", from, err))
	}
	return "", errors.New(strings.Join(faults, "\n"))
}

// one gives the local path of an archive; what comes by HTTP is written to part.
func (f *Finder) download(ctx context.Context, from, part string) (string, error) {
	u, err := url.Parse(from)
	if err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		return part, download(ctx, from, part)
	}
	path := from
	if err == nil && u.Scheme == "file" {
		path = filepath.FromSlash(u.Path)
		if u.Opaque != "" {
			path = filepath.FromSlash(u.Opaque)
		}
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(f.Root, path)
	}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return "", errors.New("there is no such file")
	}
	return path, nil
}

type digestError struct{ want, got string }

func (e *digestError) Error() string {
	return fmt.Sprintf("its SHA-256 is %s, and %s is declared: it is another file, or it was changed on the way",
		e.got, e.want)
}

func checkDigest(ctx context.Context, path, want string) error {
	got, err := fileio.SHA256(ctx, path)
	if err != nil {
		return err
	}
	if got != want {
		return &digestError{want, got}
	}
	return nil
}

// download brings what is missing of a file, in several tries if need be. A
// proxy is used as the usual variables say.
func download(ctx context.Context, from, part string) error {
	client := httpx.Client(true)
	return httpx.Retry(ctx, httpx.DefaultPatience, func() (bool, error) {
		before := sizeOf(part)
		err := transfer(ctx, client, from, part, before)
		return sizeOf(part) > before, err
	})
}

func sizeOf(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

func transfer(ctx context.Context, client *http.Client, from, part string, have int64) error {
	watched, touch, stop := httpx.Watch(ctx, httpx.Idle)
	defer stop()
	req, err := http.NewRequestWithContext(watched, http.MethodGet, from, nil)
	if err != nil {
		return err
	}
	req.Header.Set("User-Agent", "piedmont")
	if have > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", have))
	}
	res, err := client.Do(req)
	if err != nil {
		return httpx.Explain(err, from)
	}
	defer func() { _ = res.Body.Close() }()
	flags := os.O_WRONLY | os.O_CREATE
	switch {
	case res.StatusCode == http.StatusPartialContent && strings.HasPrefix(res.Header.Get("Content-Range"),
		fmt.Sprintf("bytes %d-", have)):
		flags |= os.O_APPEND
	case res.StatusCode == http.StatusRequestedRangeNotSatisfiable && have > 0:
		return nil // all of it is there; the digest tells whether that is right
	case res.StatusCode == http.StatusOK:
		flags |= os.O_TRUNC
	default:
		return httpx.Status(res, "")
	}
	f, err := os.OpenFile(part, flags, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, &httpx.Reader{R: res.Body, Touch: func(int) { touch() }})
	if err == nil {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		if context.Cause(watched) == httpx.ErrStalled {
			err = httpx.ErrStalled
		}
		var path *fs.PathError
		if errors.As(err, &path) {
			return err
		}
		return httpx.Explain(err, from)
	}
	return nil
}
