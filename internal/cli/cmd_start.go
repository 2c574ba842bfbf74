package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/project/scaffold"
)

func (a *app) start() *cli.Command {
	var print bool
	return &cli.Command{
		Name: "start", Category: groupFirst,
		Usage: "looks at the folder and writes a first " + config.FileName,
		Description: "It finds the Go programs, the module's name, the licence and the remote, and\n" +
			"writes a file with comments that \"piedmont plan\" accepts. A file that is there\n" +
			"already stays as it is.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "print", Usage: "print the file instead of writing it",
			Destination: &print}},
		Metadata: example("piedmont start", "piedmont -C ../hutbell start --print"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArgs(c); err != nil {
				return err
			}
			file := filepath.Join(a.dir, config.FileName)
			if _, err := os.Lstat(file); err == nil && !print {
				return usage(fmt.Sprintf("there is a %s here already, and it stays as it is: see what it "+
					"makes with \"piedmont plan\"", config.FileName))
			}
			found, err := scaffold.Look(ctx, a.dir, a.env)
			if err != nil {
				return err
			}
			data, err := found.Write()
			if err != nil {
				return err
			}
			if print {
				a.screen.Print("%s", strings.TrimSuffix(string(data), "\n"))
				return nil
			}
			if err := writeNew(file, data); err != nil {
				return err
			}
			a.showFound(found)
			return nil
		},
	}
}

func writeNew(file string, data []byte) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("write %s: %w", config.FileName, err)
	}
	_, err = f.Write(data)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		_ = os.Remove(file)
		return fmt.Errorf("write %s: %w", config.FileName, err)
	}
	return nil
}

func (a *app) showFound(f *scaffold.Found) {
	s := a.screen
	or := func(text, none string) string {
		if text == "" {
			return s.Paint(term.Warn, none)
		}
		return text
	}
	var programs []string
	for _, p := range f.Programs {
		programs = append(programs, fmt.Sprintf("%s (%s)", p.Name, p.Source))
	}
	s.Print("%s", s.Table([]term.Column{{Title: "found"}, {Title: "what"}}, [][]string{
		{"project", f.Name},
		{"programs", strings.Join(programs, ", ")},
		{"licence", or(f.License, "not recognised")},
		{"repository", or(f.Repository, "no remote")},
	}))
	s.Print("")
	s.Print("%s is written. Read it, commit it, and see what it makes: %s", s.Paint(term.Bold, config.FileName),
		s.Paint(term.Name, "piedmont plan"))
}
