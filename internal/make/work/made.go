package work

import (
	"encoding/json"
	"fmt"
	"io/fs"

	"piedmont/internal/format/exe"
	"piedmont/internal/make/store"
)

// Made is what is known of a file that a build left, beside its bytes. Its name in
// the store is its path in the stage.
type Made struct {
	Executable bool      `json:"executable,omitempty"`
	Link       string    `json:"link,omitempty"`
	Binary     *exe.Info `json:"binary,omitempty"`
	Paths      []string  `json:"paths,omitempty"`   // of this machine, in a binary
	Version    bool      `json:"version,omitempty"` // the version stands in it
}

// Mode is that of the file.
func (m Made) Mode() fs.FileMode {
	switch {
	case m.Link != "":
		return fs.ModeSymlink | 0o777
	case m.Executable:
		return 0o755
	}
	return 0o644
}

// MadeOf reads what was kept with an object.
func MadeOf(o store.Object) (Made, error) {
	var m Made
	if err := json.Unmarshal(o.Extra, &m); err != nil {
		return m, fmt.Errorf("what %s is: %w", o.Name, err)
	}
	return m, nil
}

// Examined is the id of the step that lets a build's files pass.
func Examined(build string) string { return "examine " + build }

// Find gives the object of a name.
func Find(objects []store.Object, name string) (store.Object, bool) {
	for _, o := range objects {
		if o.Name == name {
			return o, true
		}
	}
	return store.Object{}, false
}
