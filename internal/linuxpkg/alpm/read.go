package alpm

import (
	"io"
	"os"
	"slices"

	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
)

// Read tells what a package says and holds; look sees the content of each file.
func Read(path string, look func(archive.Item, io.Reader) error) (*linuxpkg.Shown, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	out := &linuxpkg.Shown{Format: linuxpkg.Arch, Fields: []linuxpkg.Field{}, Scripts: []linuxpkg.Script{}}
	items, err := archive.WalkStream(f, func(i archive.Item, r io.Reader) error {
		switch i.Path {
		case ".PKGINFO":
			text, err := linuxpkg.ReadMember(r)
			out.Fields = linuxpkg.PkgInfo(text)
			return err
		case ".INSTALL":
			text, err := linuxpkg.ReadMember(r)
			out.Scripts = append(out.Scripts, linuxpkg.Script{When: i.Path, Text: text})
			return err
		case ".BUILDINFO", ".MTREE", ".CHANGELOG":
			return nil
		}
		return look(i, r)
	})
	if err != nil {
		return nil, err
	}
	out.Files = slices.DeleteFunc(items, func(i archive.Item) bool { return len(i.Path) > 0 && i.Path[0] == '.' && i.Path != "./" })
	out.Name, out.Version = out.Value("pkgname"), out.Value("pkgver")
	return out, nil
}
