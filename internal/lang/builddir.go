package lang

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"piedmont/internal/base/fileio"
)

// BuildDir is a folder in which a build leaves its programs, so that a compiler
// that can tell does not link again what is up to date. A compiler looks at a
// mark in the file for that, not at all of its bytes; so what a killed run or
// anybody else left there is removed first.
type BuildDir struct {
	Dir string
}

// Stamp is what a program in the folder must look like to be trusted.
type Stamp struct {
	Size int64 `json:"size"`
	Time int64 `json:"time"` // modification, nanoseconds
}

func (k BuildDir) record() string { return k.Dir + ".json" }

// Open makes the folder and removes everything that the last good build did not leave.
func (k BuildDir) Open() error {
	if err := os.MkdirAll(k.Dir, 0o755); err != nil {
		return fmt.Errorf("open the folder for programs: %w", err)
	}
	good := map[string]Stamp{}
	if data, err := os.ReadFile(k.record()); err == nil {
		_ = json.Unmarshal(data, &good) // a damaged record trusts nothing
	}
	entries, err := os.ReadDir(k.Dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() && good[e.Name()] == StampOf(info) {
			continue
		}
		if err := os.RemoveAll(filepath.Join(k.Dir, e.Name())); err != nil {
			return fmt.Errorf("clear the folder for programs: %w", err)
		}
	}
	// Until Close, nothing in it is known to be good.
	if err := os.Remove(k.record()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Close records what a good build left.
func (k BuildDir) Close(files []string) error {
	good := map[string]Stamp{}
	for _, name := range files {
		info, err := os.Stat(filepath.Join(k.Dir, name))
		if err != nil {
			return err
		}
		good[name] = StampOf(info)
	}
	data, err := json.Marshal(good)
	if err != nil {
		return err
	}
	return fileio.Write(k.record(), data, 0o644)
}

// StampOf is the stamp of a file.
func StampOf(info fs.FileInfo) Stamp { return Stamp{info.Size(), info.ModTime().UnixNano()} }
