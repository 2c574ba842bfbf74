package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"piedmont/internal/cli/term"
	"piedmont/internal/format/archive"
	"piedmont/internal/format/exe"
)

// binaryAnswer is the JSON of an executable; docs/commands.md describes it.
type binaryAnswer struct {
	File string `json:"file"`
	*exe.Examined
	// OldestSystem is the oldest common distribution with the glibc that is needed.
	OldestSystem string `json:"oldest_system,omitempty"`
}

func (a *app) showBinary(name string, x *exe.Examined) error {
	if x.Paths == nil {
		x.Paths = []string{}
	}
	if a.json {
		return a.printJSON(binaryAnswer{name, x, exe.OldestSystem(x.Binary.LibcAtLeast)})
	}
	s := a.screen
	s.Print("%s  %s", s.Paint(term.Bold, printable(filepath.Base(name))), s.Paint(term.Soft, term.Size(x.Size)))
	all := []*exe.Info{x.Binary}
	if len(x.Binary.Slices) > 0 {
		all = nil
		for i := range x.Binary.Slices {
			all = append(all, &x.Binary.Slices[i])
		}
		s.Print("A fat file with %d programs", len(all))
	}
	for _, info := range all {
		s.Print("")
		s.Print("%s", s.Table([]term.Column{{Title: "what"}, {Title: "found"}}, a.binaryRows(info)))
	}
	if len(x.Paths) > 0 {
		s.Print("\n%s", s.Paint(term.Warn, "It names folders of a machine that it was built on:"))
		for _, p := range x.Paths {
			s.Print("  %s", printable(p))
		}
	}
	if g := x.Binary.Go; g != nil && len(g.Modules) > 0 {
		if !a.verbose && len(g.Modules) > 8 {
			s.Print("\nIt holds %s; --verbose lists them", term.Count(len(g.Modules), "Go module"))
			return nil
		}
		s.Print("\nGo modules in it:")
		for _, m := range g.Modules {
			s.Print("  %s", printable(m))
		}
	}
	return nil
}

// binaryRows says in words what was found, a line each.
func (a *app) binaryRows(i *exe.Info) [][]string {
	format := map[string]string{exe.ELF: "ELF", exe.MachO: "Mach-O", exe.PE: "PE"}[i.Format]
	rows := [][]string{
		{"format", fmt.Sprintf("%s %s, %d bits, %s-endian", format, i.Type, i.Bits, i.Endian)},
		{"platform", i.Platform()},
		{"linkage", linkage(i)},
	}
	add := func(what, found string) {
		if found != "" {
			rows = append(rows, []string{what, printable(found)})
		}
	}
	add("loader", i.Interpreter)
	add("needs", strings.Join(i.Needs, ", "))
	add("runs on", runsOn(i))
	add("symbols", symbols(i))
	add("hardening", hardened(i))
	add("build id", i.BuildID)
	if g := i.Go; g != nil {
		text := g.Version
		if g.Path != "" {
			text += ", package " + g.Path
		}
		if g.Cgo {
			text += ", with cgo"
		}
		add("made by", text)
	}
	return rows
}

func linkage(i *exe.Info) string {
	if i.Linkage == exe.Static && i.Format != exe.ELF && len(i.Needs) > 0 {
		return "static, but for the system's own libraries"
	}
	return i.Linkage
}

func runsOn(i *exe.Info) string {
	switch {
	case i.LibcAtLeast != "":
		text := "glibc " + i.LibcAtLeast + " and later"
		if oldest := exe.OldestSystem(i.LibcAtLeast); oldest != "" {
			text += ": " + oldest + " and later"
		}
		return text
	case i.Libc != "":
		return "any " + i.Libc
	case i.OS == "darwin" && i.SystemAtLeast != "":
		return "macOS " + i.SystemAtLeast + " and later"
	case i.OS == "windows" && i.SystemAtLeast != "":
		return fmt.Sprintf("Windows %s and later, as a %s program", i.SystemAtLeast, i.Subsystem)
	case i.Format == exe.ELF && i.Linkage == exe.Static && i.Type == exe.Executable:
		return "any distribution"
	}
	return ""
}

func symbols(i *exe.Info) string {
	switch {
	case i.Type == exe.Object || i.Type == exe.Core:
		return ""
	case i.Stripped && i.DebugInfo:
		return "no symbol table, but debug information"
	case i.Stripped:
		return "stripped"
	case i.DebugInfo:
		return "not stripped, with debug information"
	}
	return "not stripped"
}

func hardened(i *exe.Info) string {
	if i.Type == exe.Object || i.Type == exe.Core {
		return ""
	}
	h := i.Hardening
	var yes, no []string
	say := func(has bool, what string) {
		if has {
			yes = append(yes, what)
		} else {
			no = append(no, what)
		}
	}
	if i.Format == exe.PE {
		say(h.PIE, "ASLR")
	} else {
		say(h.PIE, "PIE")
	}
	say(h.NX, "NX")
	if h.RELRO == "partial" || h.RELRO == "full" {
		say(true, h.RELRO+" RELRO")
	} else if h.RELRO != "" {
		say(false, "RELRO")
	}
	// Without symbols a canary cannot be seen; Go needs none.
	if h.StackProtector || (!i.Stripped && i.Go == nil) {
		say(h.StackProtector, "stack protector")
	}
	if h.HighEntropy {
		say(true, "64-bit ASLR")
	}
	if h.ControlFlow {
		say(true, "control flow guard")
	}
	text := strings.Join(yes, ", ")
	if len(no) > 0 {
		if text != "" {
			text += "; "
		}
		text += "no " + strings.Join(no, ", no ")
	}
	return text
}

var errFound = errors.New("found")

// showMember shows one file of an archive: what it is, if it is a binary.
func (a *app) showMember(ctx context.Context, file, member string) error {
	var names []string
	var x *exe.Examined
	_, _, err := archive.Walk(ctx, file, readers(), func(i archive.Entry, r io.Reader) error {
		names = append(names, i.Path)
		if strings.TrimPrefix(i.Path, "./") != strings.TrimPrefix(member, "./") {
			return nil
		}
		var err error
		if x, err = exe.ReadStream(r); err != nil {
			return err
		}
		return errFound
	})
	switch {
	case errors.Is(err, errFound):
		return a.showBinary(member, x)
	case errors.Is(err, exe.ErrNotBinary):
		return fmt.Errorf("%s in %s is no executable: it is no ELF, Mach-O or PE file", member, file)
	case err != nil:
		return fmt.Errorf("%s: %w", file, err)
	}
	return usage(fmt.Sprintf("%s holds no file %s%s", file, member, meant(member, names)))
}

// binariesIn examines every executable of an archive.
func binariesIn(ctx context.Context, path string) (format string, items []archive.Entry,
	found map[string]*exe.Info, err error) {
	found = map[string]*exe.Info{}
	format, items, err = archive.Walk(ctx, path, readers(), func(i archive.Entry, r io.Reader) error {
		x, err := exe.ReadStream(r)
		if err == nil {
			found[i.Path] = x.Binary
		}
		return nil // what cannot be read as a binary is shown as a file
	})
	return format, items, found, err
}

func (a *app) binaryTable(items []archive.Entry, found map[string]*exe.Info) string {
	var rows [][]string
	for _, i := range items {
		b := found[i.Path]
		if b == nil {
			continue
		}
		rows = append(rows, []string{printable(i.Path), b.Platform(), b.Linkage, runsOn(b), symbols(b), hardened(b)})
	}
	if len(rows) == 0 {
		return ""
	}
	return a.screen.Table([]term.Column{{Title: "executable"}, {Title: "platform"}, {Title: "linkage"},
		{Title: "runs on"}, {Title: "symbols"}, {Title: "hardening"}}, rows)
}
