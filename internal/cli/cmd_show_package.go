package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/cli/term"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/alpm"
	"piedmont/internal/linuxpkg/apk"
	"piedmont/internal/linuxpkg/deb"
	"piedmont/internal/linuxpkg/rpm"
)

// packageAnswer is the JSON of a package; docs/commands.md describes it.
type packageAnswer struct {
	File string `json:"file"`
	Size int64  `json:"size"`
	*linuxpkg.Shown
	Binaries map[string]*exe.Info `json:"binaries"`
}

// packageFormat knows a package by its content; "" is none.
func packageFormat(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }()
	head := make([]byte, 24)
	n, _ := io.ReadFull(f, head)
	switch text := string(head[:n]); {
	case strings.HasPrefix(text, "!<arch>\ndebian-binary"):
		return linuxpkg.Deb, nil
	case strings.HasPrefix(text, "\xed\xab\xee\xdb"):
		return linuxpkg.RPM, nil
	}
	return "", nil
}

// ofTar knows the packages that are tars by what they hold.
func ofTar(items []archive.Item) string {
	has := func(name string) bool {
		return slices.ContainsFunc(items, func(i archive.Item) bool { return i.Path == name })
	}
	switch {
	case has(".PKGINFO") && (has(".MTREE") || has(".BUILDINFO")):
		return linuxpkg.Arch
	case has(".PKGINFO"):
		return linuxpkg.APK
	}
	return ""
}

func (a *app) showPackage(path, format string) error {
	found := map[string]*exe.Info{}
	look := func(i archive.Item, r io.Reader) error {
		if x, err := exe.ReadStream(r); err == nil {
			found[i.Path] = x.Binary
		}
		return nil
	}
	var p *linuxpkg.Shown
	var err error
	switch format {
	case linuxpkg.Deb:
		p, err = deb.Read(path, look)
	case linuxpkg.RPM:
		p, err = rpm.Read(path, look)
	case linuxpkg.APK:
		p, err = apk.Read(path, look)
	default:
		p, err = alpm.Read(path, look)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(packageAnswer{path, info.Size(), p, found})
	}
	a.printPackage(path, info.Size(), p, found)
	return nil
}

func (a *app) printPackage(path string, size int64, p *linuxpkg.Shown, found map[string]*exe.Info) {
	s := a.screen
	s.Print("%s  %s", s.Paint(term.Bold, printable(p.Name+" "+p.Version)), s.Paint(term.Soft, p.Format+" package, "+term.Size(size)))
	var rows [][]string
	last := ""
	for _, f := range p.Fields {
		for i, line := range strings.Split(f.Value, "\n") {
			name := f.Name
			if i > 0 || name == last {
				name = ""
			}
			rows = append(rows, []string{printable(name), printable(line)})
		}
		last = f.Name
	}
	s.Print("\n%s", s.Table([]term.Column{{Title: "says"}, {Title: ""}}, rows))
	if len(p.Scripts) > 0 {
		var names []string
		for _, one := range p.Scripts {
			names = append(names, one.When)
		}
		s.Print("\n  %s %s", s.Paint(term.Soft, "scripts"), strings.Join(names, ", "))
		if a.verbose {
			for _, one := range p.Scripts {
				s.Print("\n%s", s.Paint(term.Bold, one.When))
				for _, line := range strings.Split(strings.TrimRight(one.Text, "\n"), "\n") {
					s.Print("  %s", printable(strings.ReplaceAll(line, "\t", "    ")))
				}
			}
		}
	}
	rows = nil
	for _, i := range p.Files {
		n := term.Size(i.Size)
		if i.Type != "file" {
			n = ""
		}
		rows = append(rows, []string{i.Mode, i.Type, i.Owner, n, printable(i.Path), printable(i.Link)})
	}
	if len(rows) > 0 {
		s.Print("\n%s", s.Table([]term.Column{{Title: "mode"}, {Title: "type"}, {Title: "owner"}, {Title: "size", Right: true}, {Title: "path"}, {Title: "link to"}}, rows))
	}
	if text := a.binaryTable(p.Files, found); text != "" {
		s.Print("\n%s", text)
	}
	s.Print("\n%s: %s%s", s.Paint(term.Bold, filepath.Base(path)), entries(len(p.Files)), scriptsHint(a, p))
}

func scriptsHint(a *app, p *linuxpkg.Shown) string {
	if len(p.Scripts) == 0 || a.verbose {
		return ""
	}
	return "; --verbose shows the scripts"
}
