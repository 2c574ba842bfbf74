package work

import (
	"context"
	"encoding/json"
	"io"

	"piedmont/internal/base/fileio"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
	"piedmont/internal/make/store"
	"piedmont/internal/release"
)

// Packed is the id of the step that makes a file of the release.
func Packed(file string) string { return "pack " + file }

// Archive gives the work of packing entries; what the archive holds is kept with
// the object.
func (e *Env) Archive(file string, f archive.Format,
	entries []release.Entry) func(context.Context) ([]store.Object, error) {
	return func(ctx context.Context) ([]store.Object, error) {
		list := make([]archive.Entry, len(entries))
		binaries := map[string]*exe.Info{}
		for i, one := range entries {
			list[i], binaries[one.Path] = one.Entry, one.Binary
		}
		var holds []release.Entry
		return e.Holding(ctx, file, func(w io.Writer) ([]release.Entry, error) {
			held, err := archive.Write(ctx, w, f, list, e.Packing())
			for _, h := range held {
				holds = append(holds, release.Entry{Entry: h, Binary: binaries[h.Path]})
			}
			return holds, err
		})
	}
}

// Holding keeps what write writes, with what it says that it holds.
func (e *Env) Holding(ctx context.Context, file string, write func(io.Writer) ([]release.Entry,
	error)) ([]store.Object, error) {
	var holds []release.Entry
	o, err := e.Create(ctx, file, func(w io.Writer) (err error) {
		holds, err = write(fileio.Writer(ctx, w))
		return err
	})
	if err != nil {
		return nil, err
	}
	o.Extra, err = json.Marshal(holds)
	return []store.Object{o}, err
}
