package apk

import (
	"io"
	"os"
	"slices"
	"strings"

	"piedmont/internal/distpkg"
	"piedmont/internal/pack"
)

// Read tells what a package says and holds; look sees the content of each file.
// The members are read as one tar, since those before the last have no end.
func Read(path string, look func(pack.Item, io.Reader) error) (*distpkg.Shown, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	out := &distpkg.Shown{Format: distpkg.APK, Fields: []distpkg.Field{}, Scripts: []distpkg.Script{}}
	signed := ""
	items, err := pack.WalkStream(f, func(i pack.Item, r io.Reader) error {
		switch {
		case i.Path == ".PKGINFO":
			text, err := distpkg.ReadMember(r)
			out.Fields = distpkg.PkgInfo(text)
			return err
		case strings.HasPrefix(i.Path, ".SIGN."):
			signed = strings.TrimPrefix(i.Path, ".SIGN.")
			return nil
		case strings.HasPrefix(i.Path, "."):
			text, err := distpkg.ReadMember(r)
			out.Scripts = append(out.Scripts, distpkg.Script{When: strings.TrimPrefix(i.Path, "."), Text: text})
			return err
		}
		return look(i, r)
	})
	if err != nil {
		return nil, err
	}
	if signed != "" {
		out.Fields = append(out.Fields, distpkg.Field{Name: "signed by", Value: signed})
	}
	out.Files = slices.DeleteFunc(items, func(i pack.Item) bool { return strings.HasPrefix(i.Path, ".") })
	out.Name, out.Version = out.Value("pkgname"), out.Value("pkgver")
	return out, nil
}
