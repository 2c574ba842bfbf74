package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"piedmont/internal/cli/term"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
	"piedmont/internal/kinds"
	"piedmont/internal/linuxpkg"
)

// packageAnswer is the JSON of a package; docs/commands.md describes it.
type packageAnswer struct {
	File string `json:"file"`
	Size int64  `json:"size"`
	*linuxpkg.Contents
	Binaries map[string]*exe.Info `json:"binaries"`
}

// readers are those of every archive.
func readers() []archive.Reader { return kinds.New(kinds.Options{}).Readers() }

// packageFormat knows a package by how it begins; nil is none.
func packageFormat(path string) (linuxpkg.Format, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	head := make([]byte, 512)
	n, _ := io.ReadFull(f, head)
	return kinds.PackageOf(head[:n]), nil
}

// packageIn knows the packages that are tars by what they hold.
func packageIn(items []archive.Entry) linuxpkg.Format {
	return kinds.PackageIn(func(name string) bool {
		return slices.ContainsFunc(items, func(i archive.Entry) bool { return i.Path == name })
	})
}

func (a *app) showPackage(ctx context.Context, path string, format linuxpkg.Format) error {
	found := map[string]*exe.Info{}
	look := func(i archive.Entry, r io.Reader) error {
		if x, err := exe.ReadStream(r); err == nil {
			found[i.Path] = x.Binary
		}
		return nil
	}
	p, err := format.Read(ctx, path, look)
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

func (a *app) printPackage(path string, size int64, p *linuxpkg.Contents, found map[string]*exe.Info) {
	s := a.screen
	s.Print("%s  %s", s.Paint(term.Bold, printable(p.Name+" "+p.Version)),
		s.Paint(term.Soft, p.Format+" package, "+term.Size(size)))
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
		rows = append(rows, []string{archive.Octal(i.Mode), i.Type(), owner(i), sizeOf(i), printable(i.Path),
			printable(i.Link)})
	}
	if len(rows) > 0 {
		s.Print("\n%s", s.Table([]term.Column{{Title: "mode"}, {Title: "type"}, {Title: "owner"},
			{Title: "size", Right: true}, {Title: "path"}, {Title: "link to"}}, rows))
	}
	if text := a.binaryTable(p.Files, found); text != "" {
		s.Print("\n%s", text)
	}
	s.Print("\n%s: %s%s", s.Paint(term.Bold, filepath.Base(path)), entries(len(p.Files)), scriptsHint(a, p))
}

func scriptsHint(a *app, p *linuxpkg.Contents) string {
	if len(p.Scripts) == 0 || a.verbose {
		return ""
	}
	return "; --verbose shows the scripts"
}
