package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/fault"
	"piedmont/internal/check/verify"
	"piedmont/internal/cli/term"
)

func (a *app) verify() *cli.Command {
	return &cli.Command{
		Name: "verify", Category: groupLook,
		Usage: "checks a folder or an address against its manifest and checksums", ArgsUsage: "WHERE",
		Description: "WHERE is a folder with a release, its manifest.json, or an address: of a\n" +
			"release, or of a project, whose latest release is meant then. Sizes, SHA-256\n" +
			"and SHA-512 of every file are checked, and SHA256SUMS against the manifest.\n" +
			"The exit status is 6 when something does not match.",
		Metadata: example("piedmont verify outbox/1.4.0",
			"piedmont verify https://releases.example.org/hutbell/1.4.0/"),
		Action: func(ctx context.Context, c *cli.Command) error {
			where, err := oneArg(c, "folder, manifest or address")
			if err != nil {
				return err
			}
			r, err := a.runVerify(ctx, where)
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(r)
			} else {
				a.showReport(r)
			}
			if err == nil && !r.OK {
				err = told{fault.Mismatch}
			}
			return err
		},
	}
}

func (a *app) runVerify(ctx context.Context, where string) (*verify.Report, error) {
	sink, stop := a.screen.Progress(true, false)
	if a.screen.Live && !a.quiet {
		sink, stop = a.screen.Watching()
	}
	defer stop()
	o := verify.Options{Jobs: max(2, a.jobs), Events: sink}
	var r *verify.Report
	var err error
	if strings.HasPrefix(where, "http://") || strings.HasPrefix(where, "https://") {
		r, err = verify.URL(ctx, where, o)
	} else {
		r, err = verify.Folder(ctx, a.path(where), o)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, usage(fmt.Sprintf("there is nothing at %s: name a folder with a release, its "+
			"manifest.json, or an address", where))
	}
	return r, err
}

func (a *app) showReport(r *verify.Report) {
	s := a.screen
	styles := map[string]term.Style{verify.OK: term.Good, verify.Missing: term.Bad, verify.Differs: term.Bad,
		verify.Surplus: term.Warn}
	var rows [][]string
	var total int64
	bad := 0
	for _, f := range r.Files {
		total += f.Size
		size := term.Size(f.Size)
		if f.State != verify.OK {
			bad++
		}
		if f.State == verify.Surplus {
			size = ""
		}
		if a.quiet && f.State == verify.OK {
			continue
		}
		rows = append(rows, []string{s.Paint(styles[f.State], f.State), f.Name, size, f.Detail})
	}
	if len(rows) > 0 {
		s.Print("%s", s.Table([]term.Column{{Title: "found"}, {Title: "file"}, {Title: "size", Right: true},
			{Title: "what is wrong"}}, rows))
		s.Print("")
	}
	name := s.Paint(term.Bold, r.Project+" "+r.Version)
	if r.OK {
		s.Print("%s at %s is what its manifest says: %s, %s", name, s.Paint(term.Name, r.Where),
			term.Count(len(r.Files), "file"), term.Size(total))
		return
	}
	s.Print("%s", s.Paint(term.Bad,
		term.Count(bad, "file")+" of "+r.Project+" "+r.Version+" at "+r.Where+" not as the manifest says"))
}
