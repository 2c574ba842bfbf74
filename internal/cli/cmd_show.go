package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"piedmont/internal/cli/term"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
	"piedmont/internal/release"
)

// archiveAnswer is the JSON of an archive; docs/commands.md describes it.
type archiveAnswer struct {
	File   string          `json:"file"`
	Format string          `json:"format"`
	Size   int64           `json:"size"`
	Holds  []archive.Entry `json:"holds"`
	// Binaries are the executables among them, by path.
	Binaries map[string]*exe.Info `json:"binaries"`
}

func (a *app) show() *cli.Command {
	return &cli.Command{
		Name: "show", Category: groupLook,
		Usage: "tells what an executable, an archive, a package or a manifest is and holds", ArgsUsage: "FILE [PATH]",
		Description: "It reads ELF, Mach-O and PE files, tar archives (plain, gz, bz2, xz, zst), zip\n" +
			"archives, packages (deb, rpm, apk, arch) and manifest.json. PATH is an executable\n" +
			"inside of an archive. The format is known by the content, not by the name.",
		Metadata: example("piedmont show outbox/1.4.0/hutbell-1.4.0-linux-arm64.tar.gz",
			"piedmont show outbox/1.4.0/hutbell-1.4.0-linux-arm64.tar.gz hutbell", "piedmont show /usr/bin/git",
			"piedmont show outbox/1.4.0/manifest.json"),
		Commands: []*cli.Command{a.showPlatforms()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() == 0 || c.NArg() > 2 {
				return usage("name a file to show, and if it is an archive, an executable in it; or run " +
					"\"piedmont show platforms\"")
			}
			path := a.path(c.Args().First())
			info, err := os.Stat(path)
			if errors.Is(err, fs.ErrNotExist) {
				return usage(fmt.Sprintf("there is no file %s", path))
			}
			if err != nil {
				return err
			}
			if info.IsDir() {
				return usage(fmt.Sprintf("%s is a folder: name a file in it, or run \"piedmont verify %s\"",
					path, path))
			}
			if c.NArg() == 2 {
				return a.showMember(ctx, path, c.Args().Get(1))
			}
			x, err := exe.ReadFile(path)
			if err == nil {
				return a.showBinary(path, x)
			}
			if !errors.Is(err, exe.ErrNotBinary) {
				return fmt.Errorf("%s: %w", path, err)
			}
			format, err := packageFormat(path)
			if err != nil {
				return err
			}
			if format != nil {
				return a.showPackage(ctx, path, format)
			}
			if filepath.Ext(path) == ".json" {
				return a.showManifest(path)
			}
			return a.showArchive(ctx, path, info.Size())
		},
	}
}

func (a *app) showManifest(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	m, _, err := release.Read(f)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if a.json {
		return a.printJSON(m)
	}
	s := a.screen
	s.Print("%s%s", s.Paint(term.Bold, m.Project.Name+" "+m.Version), s.Paint(term.Soft, "  "+m.Project.Summary))
	s.Print("made from commit %s of %s%s", m.Commit.ID[:10], m.Commit.Time.UTC().Format("2006-01-02 15:04 UTC"),
		tagged(m))
	s.Print("")
	s.Print("%s", a.fileTable(m))
	if !a.verbose {
		return nil
	}
	for _, file := range m.Files {
		if len(file.Holds) == 0 {
			continue
		}
		s.Print("\n%s holds", s.Paint(term.Bold, file.Name))
		var rows [][]string
		for _, e := range file.Holds {
			rows = append(rows, []string{archive.Octal(e.Mode), e.Path, term.Size(e.Size), e.Link})
		}
		s.Print("%s", s.Table([]term.Column{{Title: "mode"}, {Title: "path"}, {Title: "size", Right: true},
			{Title: "link to"}}, rows))
	}
	return nil
}

func tagged(m *release.Manifest) string {
	if m.Tag == "" {
		return ", a preview"
	}
	return ", tag " + m.Tag
}

func (a *app) showArchive(ctx context.Context, path string, size int64) error {
	format, items, found, err := binariesIn(ctx, path)
	if errors.Is(err, archive.ErrNotArchive) {
		return fmt.Errorf("%s: this is no file that Piedmont knows: an executable (ELF, Mach-O, PE), an "+
			"archive (tar, zip), a package (deb, rpm, apk, arch) or a manifest.json", path)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if format := packageIn(items); format != nil {
		return a.showPackage(ctx, path, format)
	}
	if a.json {
		return a.printJSON(archiveAnswer{path, format, size, items, found})
	}
	s := a.screen
	var rows [][]string
	var total int64
	for _, i := range items {
		total += i.Size
		rows = append(rows, []string{archive.Octal(i.Mode), i.Type(), owner(i),
			i.Time.Format("2006-01-02 15:04:05"), sizeOf(i), printable(i.Path), printable(i.Link)})
	}
	s.Print("%s", s.Table([]term.Column{{Title: "mode"}, {Title: "type"}, {Title: "owner"},
		{Title: "time (UTC)"}, {Title: "size", Right: true}, {Title: "path"}, {Title: "link to"}}, rows))
	if text := a.binaryTable(items, found); text != "" {
		s.Print("\n%s", text)
	}
	s.Print("")
	s.Print("%s: %s archive, %s, %s of content in %s", s.Paint(term.Bold, filepath.Base(path)), format,
		entries(len(items)), term.Size(total), term.Size(size))
	return nil
}

// owner is user:group, "" in formats without owners.
func owner(e archive.Entry) string {
	if e.Owner+e.Group == "" {
		return ""
	}
	return e.Owner + ":" + e.Group
}

// sizeOf is the size of a file; other things have none.
func sizeOf(e archive.Entry) string {
	if e.Type() != "file" {
		return ""
	}
	return term.Size(e.Size)
}

func entries(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

// printable keeps a name from an archive from commanding the terminal.
func printable(name string) string {
	for _, r := range name {
		if r < ' ' || r == 0x7f || (r >= 0x80 && r < 0xa0) {
			return fmt.Sprintf("%q", name)
		}
	}
	return name
}
