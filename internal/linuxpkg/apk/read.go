package apk

import (
	"io"
	"os"
	"slices"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
)

// Read tells what a package says and holds; look sees the content of each file.
// The members are read as one tar, since those before the last have no end.
func Read(path string, look func(archive.Item, io.Reader) error) (*linuxpkg.Shown, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	out := &linuxpkg.Shown{Format: linuxpkg.APK, Fields: []linuxpkg.Field{}, Scripts: []linuxpkg.Script{}}
	signed := ""
	items, err := archive.WalkStream(f, func(i archive.Item, r io.Reader) error {
		switch {
		case i.Path == ".PKGINFO":
			text, err := linuxpkg.ReadMember(r)
			out.Fields = linuxpkg.PkgInfo(text)
			return err
		case strings.HasPrefix(i.Path, ".SIGN."):
			signed = strings.TrimPrefix(i.Path, ".SIGN.")
			return nil
		case strings.HasPrefix(i.Path, "."):
			text, err := linuxpkg.ReadMember(r)
			out.Scripts = append(out.Scripts, linuxpkg.Script{When: strings.TrimPrefix(i.Path, "."), Text: text})
			return err
		}
		return look(i, r)
	})
	if err != nil {
		return nil, err
	}
	if signed != "" {
		out.Fields = append(out.Fields, linuxpkg.Field{Name: "signed by", Value: signed})
	}
	out.Files = slices.DeleteFunc(items, func(i archive.Item) bool { return strings.HasPrefix(i.Path, ".") })
	out.Name, out.Version = out.Value("pkgname"), out.Value("pkgver")
	return out, nil
}
