// Package memory is a store of files in memory, for tests. It can do no more than
// it must: it renames nothing, locks nothing, and vouches for nothing.
package memory

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"piedmont/internal/publish/remote"
	"piedmont/internal/release"
)

// FS is the store. The zero value is empty.
type FS struct {
	mu    sync.Mutex
	files map[string][]byte
	// Damage changes what is put, as a destination might; nil leaves it.
	Damage func(name string, data []byte) []byte
	// Puts are the names that were put, in their order.
	Puts []string
}

// Stat looks at a file or folder.
func (m *FS) Stat(_ context.Context, name string) (remote.Info, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if data, ok := m.files[name]; ok {
		return remote.Info{Name: base(name), Size: int64(len(data)), Modified: time.Unix(int64(len(data)), 0)}, nil
	}
	for other := range m.files {
		if strings.HasPrefix(other, name+"/") {
			return remote.Info{Name: base(name), Dir: true}, nil
		}
	}
	return remote.Info{}, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
}

func base(name string) string { return name[strings.LastIndexByte(name, '/')+1:] }

// Open gives a file's content.
func (m *FS) Open(_ context.Context, name string, from int64) (io.ReadCloser, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	data, ok := m.files[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return io.NopCloser(bytes.NewReader(data[min(from, int64(len(data))):])), nil
}

// Put takes a whole file, or nothing of it.
func (m *FS) Put(_ context.Context, name string, from int64, r io.Reader) (release.Receipt, error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return release.Receipt{}, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if from > 0 {
		return release.Receipt{}, fs.ErrInvalid
	}
	if m.Damage != nil {
		data = m.Damage(name, data)
	}
	if m.files == nil {
		m.files = map[string][]byte{}
	}
	m.files[name] = data
	m.Puts = append(m.Puts, name)
	return release.Receipt{Name: name, Received: int64(len(data))}, nil
}

// Remove removes a file or a folder.
func (m *FS) Remove(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for other := range m.files {
		if other == name || strings.HasPrefix(other, name+"/") {
			delete(m.files, other)
		}
	}
	return nil
}

// List names what is in a folder.
func (m *FS) List(_ context.Context, dir string) ([]remote.Info, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	prefix := dir + "/"
	if dir == "." || dir == "" {
		prefix = ""
	}
	var out []remote.Info
	for name, data := range m.files {
		rest, ok := strings.CutPrefix(name, prefix)
		if !ok {
			continue
		}
		first, _, deeper := strings.Cut(rest, "/")
		if slices.ContainsFunc(out, func(i remote.Info) bool { return i.Name == first }) {
			continue
		}
		out = append(out, remote.Info{Name: first, Size: int64(len(data)), Dir: deeper})
	}
	slices.SortFunc(out, func(a, b remote.Info) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Names are those of all files.
func (m *FS) Names() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []string
	for name := range m.files {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
