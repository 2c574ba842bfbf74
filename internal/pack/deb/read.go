package deb

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"piedmont/internal/distpkg"
	"piedmont/internal/pack"
)

// ErrNotDeb means that a file is no Debian package.
var ErrNotDeb = errors.New("this is no Debian package")

// Read tells what a package says and holds; look sees the content of each file.
func Read(path string, look func(pack.Item, io.Reader) error) (*distpkg.Shown, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	members, err := list(f)
	if err != nil {
		return nil, err
	}
	out := &distpkg.Shown{Format: distpkg.Deb, Fields: []distpkg.Field{}, Scripts: []distpkg.Script{}}
	for _, m := range members {
		part := io.NewSectionReader(f, m.at, m.size)
		switch {
		case strings.HasPrefix(m.name, "control.tar"):
			err = readControl(part, out)
		case strings.HasPrefix(m.name, "data.tar"):
			out.Files, err = pack.WalkStream(part, look)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.name, err)
		}
	}
	if out.Name, out.Version = out.Value("Package"), out.Value("Version"); out.Name == "" {
		return nil, errors.New("this Debian package is damaged: its control file names no package")
	}
	return out, nil
}

type arMember struct {
	name     string
	at, size int64
}

// list reads the headers of an ar archive.
func list(f *os.File) ([]arMember, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	head := make([]byte, 60)
	if _, err := f.ReadAt(head[:8], 0); err != nil || string(head[:8]) != "!<arch>\n" {
		return nil, ErrNotDeb
	}
	var out []arMember
	for at := int64(8); at+60 <= info.Size() && len(out) < 64; {
		if _, err := f.ReadAt(head, at); err != nil {
			return nil, err
		}
		size, err := strconv.ParseInt(strings.TrimSpace(string(head[48:58])), 10, 64)
		if err != nil || size < 0 || string(head[58:]) != "`\n" || at+60+size > info.Size() {
			return nil, errors.New("this Debian package is damaged: the header of a member is none")
		}
		name := strings.TrimSuffix(strings.TrimSpace(string(head[:16])), "/")
		if len(out) == 0 && name != "debian-binary" {
			return nil, ErrNotDeb
		}
		out = append(out, arMember{name, at + 60, size})
		at += 60 + size + size%2
	}
	if len(out) < 3 {
		return nil, ErrNotDeb
	}
	return out, nil
}

func readControl(r io.Reader, out *distpkg.Shown) error {
	_, err := pack.WalkStream(r, func(i pack.Item, r io.Reader) error {
		text, err := distpkg.ReadMember(r)
		if err != nil {
			return err
		}
		switch name := strings.TrimPrefix(i.Path, "./"); name {
		case "control":
			out.Fields = fields(text)
		case "conffiles":
			for _, line := range strings.Fields(text) {
				out.Fields = append(out.Fields, distpkg.Field{Name: "Conffile", Value: line})
			}
		case "preinst", "postinst", "prerm", "postrm", "config", "triggers":
			out.Scripts = append(out.Scripts, distpkg.Script{When: name, Text: text})
		}
		return nil
	})
	return err
}

// fields reads the stanza of a control file; lines that begin with a space go
// on with the field before.
func fields(text string) []distpkg.Field {
	var out []distpkg.Field
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		if strings.HasPrefix(line, " ") && len(out) > 0 {
			out[len(out)-1].Value += "\n" + strings.TrimPrefix(line, " ")
			continue
		}
		if name, value, ok := strings.Cut(line, ":"); ok {
			out = append(out, distpkg.Field{Name: name, Value: strings.TrimSpace(value)})
		}
	}
	return out
}
