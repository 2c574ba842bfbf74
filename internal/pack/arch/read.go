package arch

import (
	"io"
	"os"
	"slices"

	"piedmont/internal/distpkg"
	"piedmont/internal/pack"
)

// Read tells what a package says and holds; look sees the content of each file.
func Read(path string, look func(pack.Item, io.Reader) error) (*distpkg.Shown, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	out := &distpkg.Shown{Format: distpkg.Arch, Fields: []distpkg.Field{}, Scripts: []distpkg.Script{}}
	items, err := pack.WalkStream(f, func(i pack.Item, r io.Reader) error {
		switch i.Path {
		case ".PKGINFO":
			text, err := distpkg.ReadMember(r)
			out.Fields = distpkg.PkgInfo(text)
			return err
		case ".INSTALL":
			text, err := distpkg.ReadMember(r)
			out.Scripts = append(out.Scripts, distpkg.Script{When: i.Path, Text: text})
			return err
		case ".BUILDINFO", ".MTREE", ".CHANGELOG":
			return nil
		}
		return look(i, r)
	})
	if err != nil {
		return nil, err
	}
	out.Files = slices.DeleteFunc(items, func(i pack.Item) bool { return len(i.Path) > 0 && i.Path[0] == '.' && i.Path != "./" })
	out.Name, out.Version = out.Value("pkgname"), out.Value("pkgver")
	return out, nil
}
