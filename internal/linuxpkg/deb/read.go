package deb

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
)

// ErrNotDeb means that a file is no Debian package.
var ErrNotDeb = errors.New("this is no Debian package")

// Read tells what a package says and holds; look sees the content of each file.
func Read(path string, look func(archive.Item, io.Reader) error) (*linuxpkg.Shown, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	members, err := list(f)
	if err != nil {
		return nil, err
	}
	out := &linuxpkg.Shown{Format: linuxpkg.Deb, Fields: []linuxpkg.Field{}, Scripts: []linuxpkg.Script{}}
	for _, m := range members {
		part := io.NewSectionReader(f, m.at, m.size)
		switch {
		case strings.HasPrefix(m.name, "control.tar"):
			err = readControl(part, out)
		case strings.HasPrefix(m.name, "data.tar"):
			out.Files, err = archive.WalkStream(part, look)
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

func readControl(r io.Reader, out *linuxpkg.Shown) error {
	_, err := archive.WalkStream(r, func(i archive.Item, r io.Reader) error {
		text, err := linuxpkg.ReadMember(r)
		if err != nil {
			return err
		}
		switch name := strings.TrimPrefix(i.Path, "./"); name {
		case "control":
			out.Fields = fields(text)
		case "conffiles":
			for _, line := range strings.Fields(text) {
				out.Fields = append(out.Fields, linuxpkg.Field{Name: "Conffile", Value: line})
			}
		case "preinst", "postinst", "prerm", "postrm", "config", "triggers":
			out.Scripts = append(out.Scripts, linuxpkg.Script{When: name, Text: text})
		}
		return nil
	})
	return err
}

// fields reads the stanza of a control file; lines that begin with a space go
// on with the field before.
func fields(text string) []linuxpkg.Field {
	var out []linuxpkg.Field
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		if strings.HasPrefix(line, " ") && len(out) > 0 {
			out[len(out)-1].Value += "\n" + strings.TrimPrefix(line, " ")
			continue
		}
		if name, value, ok := strings.Cut(line, ":"); ok {
			out = append(out, linuxpkg.Field{Name: name, Value: strings.TrimSpace(value)})
		}
	}
	return out
}
