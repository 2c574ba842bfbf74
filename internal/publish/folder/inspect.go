package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"piedmont/internal/publish"
	"piedmont/internal/publish/layout"
)

// Inspect sees whether the folder can be written, and what it shows.
func (f Folder) Inspect(_ context.Context, _, version string) (publish.Inspection, error) {
	dir := f.Path
	info, err := os.Stat(dir)
	for errors.Is(err, fs.ErrNotExist) && filepath.Dir(dir) != dir {
		dir = filepath.Dir(dir) // the first publishing makes the folders that lack
		info, err = os.Stat(dir)
	}
	if err != nil {
		return publish.Inspection{}, err
	}
	if !info.IsDir() {
		return publish.Inspection{}, &publish.Refusal{Reason: dir + " is not a folder", Mend: "remove it, or change \"path\""}
	}
	if !writable(dir) {
		return publish.Inspection{}, &publish.Refusal{Reason: dir + " cannot be written", Mend: fmt.Sprintf("chmod u+w %s, or change \"path\"", dir)}
	}
	s := publish.Inspection{Says: "the folder can be written"}
	if _, err := layout.At(f.Path).Release(version); err == nil {
		s.Public = version
	}
	return s, nil
}
