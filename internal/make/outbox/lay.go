package outbox

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"piedmont/internal/base/fileio"
	"piedmont/internal/make/store"
	"piedmont/internal/release"
)

// lay puts the files into the version's folder, in one step. Where exactly these
// files are there already, it changes nothing.
func lay(ctx context.Context, st *store.Store, dir string, files []store.Object) (unchanged bool, err error) {
	if laid(st, dir, files) {
		return true, nil
	}
	defer func() {
		if err != nil && ctx.Err() == nil {
			err = fmt.Errorf("lay out the outbox: %w", err)
		}
	}()
	tmp, err := st.TempDir()
	if err != nil {
		return false, err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	next := filepath.Join(tmp, "next")
	if err := os.Mkdir(next, 0o755); err != nil {
		return false, err
	}
	for _, f := range files {
		if err := fileio.Link(st.Path(f), filepath.Join(next, f.Name)); err != nil {
			return false, err
		}
	}
	if err := fileio.SyncDir(next); err != nil {
		return false, err
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	return false, fileio.ReplaceDir(next, dir, tmp)
}

// laid says whether a folder has exactly these files, as the store keeps them.
func laid(st *store.Store, dir string, files []store.Object) bool {
	entries, err := os.ReadDir(dir)
	// What trials found out does not make other files of these.
	entries = slices.DeleteFunc(entries, func(e os.DirEntry) bool { return e.Name() == release.TrialsName })
	if err != nil || len(entries) != len(files) {
		return false
	}
	for _, f := range files {
		have, err := os.Stat(filepath.Join(dir, f.Name))
		if err != nil {
			return false
		}
		kept, err := os.Stat(st.Path(f))
		if err != nil || !os.SameFile(have, kept) || !st.Intact(f) {
			return false
		}
	}
	return true
}
