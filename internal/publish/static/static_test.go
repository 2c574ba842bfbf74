package static_test

import (
	"context"
	"io"
	"strings"
	"testing"

	"piedmont/internal/publish"
	"piedmont/internal/publish/publishtest"
	"piedmont/internal/publish/remote"
	"piedmont/internal/publish/remote/memory"
	"piedmont/internal/publish/static"
	"piedmont/internal/release"
)

func on(m *memory.FS) *static.Destination {
	return &static.Destination{FS: m, Name: "memory", Where: func(version string) string { return "memory/" + version }}
}

// A store that renames nothing and vouches for nothing carries a site, too.
func TestBareStore(t *testing.T) {
	publishtest.Run(t, func(t *testing.T) publishtest.Place {
		m := &memory.FS{}
		return publishtest.Place{Destination: on(m), Another: func() publish.Destination { return on(m) },
			Look: func(t *testing.T, version, name string) (string, bool) {
				// What the record does not name yet is no release.
				if _, err := m.Stat(t.Context(), version+"/"+release.RecordName); err != nil {
					return "", false
				}
				data, err := remote.Read(t.Context(), m, version+"/"+name, 1<<20)
				return string(data), err == nil
			}}
	})
}

// What such a store changed on the way is found by reading it back.
func TestDamage(t *testing.T) {
	m := &memory.FS{Damage: func(name string, data []byte) []byte {
		if strings.HasSuffix(name, ".zip") {
			return append([]byte("x"), data[1:]...)
		}
		return data
	}}
	draft, err := on(m).Begin(t.Context(), publishtest.Outbox(t, "1.0.0", map[string]string{"a.zip": "ring"}))
	if err != nil {
		t.Fatal(err)
	}
	f := publishtest.Outbox(t, "1.0.0", map[string]string{"a.zip": "ring"}).Manifest.Files[0]
	if got, err := draft.Put(t.Context(), f, 0, strings.NewReader("ring")); err == nil {
		t.Errorf("changed bytes went unnoticed: %+v", got)
	}
}

// reading counts how often each file is opened.
type reading struct {
	*memory.FS
	opened map[string]int
}

// Open opens and counts.
func (r reading) Open(ctx context.Context, name string, from int64) (io.ReadCloser, error) {
	r.opened[name]++
	return r.FS.Open(ctx, name, from)
}

// A file is read back once, also when the release is published after that.
func TestReadBackOnce(t *testing.T) {
	store := reading{&memory.FS{}, map[string]int{}}
	d := &static.Destination{FS: store, Name: "memory", Where: func(version string) string { return version }}
	publishtest.Publish(t, d, "1.0.0", map[string]string{"a.zip": "ring"})
	if n := store.opened["1.0.0/a.zip"]; n != 1 {
		t.Errorf("it was read %d times", n)
	}
}

// Readers never meet a page that names what is not there: the record comes after
// the files, and the pages after the record.
func TestOrder(t *testing.T) {
	m := &memory.FS{}
	publishtest.Publish(t, on(m), "1.0.0", map[string]string{"a.zip": "ring"})
	at := map[string]int{}
	for i, name := range m.Puts {
		at[name] = i
	}
	order := []string{"1.0.0/a.zip", "1.0.0/" + release.RecordName, "index.html"}
	for i := 1; i < len(order); i++ {
		if at[order[i]] <= at[order[i-1]] {
			t.Errorf("%s came before %s: %v", order[i], order[i-1], m.Puts)
		}
	}
}
