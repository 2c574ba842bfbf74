package deb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"piedmont/internal/format/ar"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/archive/tarball"
	"piedmont/internal/linuxpkg"
)

// ErrNotDeb means that a file is no Debian package.
var ErrNotDeb = errors.New("this is no Debian package")

// Sniff knows the first member.
func (Format) Sniff(head []byte) bool {
	return strings.HasPrefix(string(head), ar.Magic+"debian-binary")
}

// Recognize knows none by its files: it is no tar.
func (Format) Recognize(func(string) bool) bool { return false }

// maxMembers bounds how many members are looked at.
const maxMembers = 64

// Read tells what a package says and holds; look sees the content of each file.
func (Format) Read(ctx context.Context, path string,
	look func(archive.Entry, io.Reader) error) (*linuxpkg.Contents, error) {
	f, err := archive.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	members, err := ar.List(f, f.Size(), maxMembers)
	switch {
	case errors.Is(err, ar.ErrDamaged):
		return nil, errors.New("this Debian package is damaged: the header of a member is none")
	case errors.Is(err, ar.ErrNotAr), err == nil && (len(members) < 3 || members[0].Name != "debian-binary"):
		return nil, ErrNotDeb
	case err != nil:
		return nil, err
	}
	out := &linuxpkg.Contents{Format: name, Fields: []linuxpkg.Field{}, Scripts: []linuxpkg.Script{}}
	for _, m := range members {
		switch {
		case strings.HasPrefix(m.Name, "control.tar"):
			err = readControl(ctx, m, out)
		case strings.HasPrefix(m.Name, "data.tar"):
			_, err = tarball.Walk(ctx, m, func(e archive.Entry, r io.Reader) error {
				out.Files = append(out.Files, e)
				return linuxpkg.Look(look, e, r)
			})
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.Name, err)
		}
	}
	if out.Name, out.Version = out.Value("Package"), out.Value("Version"); out.Name == "" {
		return nil, errors.New("this Debian package is damaged: its control file names no package")
	}
	return out, nil
}

func readControl(ctx context.Context, r io.Reader, out *linuxpkg.Contents) error {
	_, err := tarball.Walk(ctx, r, func(e archive.Entry, r io.Reader) error {
		if !e.Mode.IsRegular() {
			return nil
		}
		text, err := linuxpkg.ReadMember(r)
		if err != nil {
			return err
		}
		switch name := strings.TrimPrefix(e.Path, "./"); name {
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
