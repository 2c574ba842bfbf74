// Package cli is the command line: commands, their options, and what they say.
// It is the only user of the command-line library, and computes nothing itself.
package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/near"
	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/lang/golang"
)

// Version is Piedmont's own; the linker sets it in a release.
var Version = "development"

// Call is one call of the program.
type Call struct {
	Args     []string // with the program's name
	Dir      string   // where it is called; "" is the process's own folder
	Env      environ.Env
	In       io.Reader
	Out, Err io.Writer
}

// help is the library's, of which it has one for all.
var help sync.Once

// Run runs one call and returns its exit status.
func Run(ctx context.Context, c Call) int {
	help.Do(func() { cli.HelpPrinter = printHelp })
	a := &app{screen: term.New(c.Out, c.Err, c.Env), env: c.Env, in: c.In, dir: c.Dir, base: c.Dir, now: time.Now}
	a.golang = &golang.Tools{Env: c.Env}
	a.words = strings.Join(spoken(c.Args), " ")
	root := a.root()
	root.Writer, root.ErrWriter = c.Out, c.Err
	return a.exit(ctx, root.Run(ctx, c.Args))
}

// spoken is the program and its first word; further words could hold secrets.
func spoken(args []string) []string {
	words := []string{filepath.Base(args[0])}
	for _, w := range args[1:] {
		if !strings.HasPrefix(w, "-") {
			return append(words, w)
		}
	}
	return words
}

// app is one call: its screen, where and in what it runs, and what the options of
// every command say.
type app struct {
	screen  *term.Screen
	env     environ.Env
	in      io.Reader
	dir     string // absolute, when the options were read
	base    string // what stands before relative paths; "" is nothing
	words   string // of the call, for others that wait
	change  string // -C
	config  string
	json    bool
	quiet   bool
	verbose bool
	jobs    int
	golang  *golang.Tools // what it said of itself
	now     func() time.Time
}

// path is one that was named in the call. It stays as it was written where that
// leads there, so that messages name it so.
func (a *app) path(p string) string {
	if a.base == "" || filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(a.base, p)
}

const (
	groupFirst = "First steps"
	groupWork  = "The work, in its order"
	groupLook  = "Looking"
	groupServe = "Serving"
)

func (a *app) root() *cli.Command {
	root := &cli.Command{
		Name:            "piedmont",
		Usage:           "takes a project from a tagged commit to a published, verified release",
		HideHelpCommand: true,
		Version:         Version,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "C", Usage: "work in `DIR` instead of the current folder", Destination: &a.change},
			&cli.StringFlag{Name: "config", Usage: "read `FILE` instead of looking for " + config.FileName,
				Destination: &a.config},
			&cli.IntFlag{Name: "jobs", Usage: "do at most `N` things at once", Value: runtime.NumCPU(),
				HideDefault: true, Destination: &a.jobs},
			&cli.BoolFlag{Name: "json", Usage: "print one JSON document instead of text", Destination: &a.json},
			&cli.BoolFlag{Name: "quiet", Usage: "print nothing but the result and what went wrong",
				Destination: &a.quiet},
			&cli.BoolFlag{Name: "verbose", Usage: "print more: what patterns matched, what was unchanged",
				Destination: &a.verbose},
		},
		Commands: []*cli.Command{
			a.start(), a.demo(),
			a.plan(), a.ready(), a.cut(), a.make(), a.try(), a.publish(), a.ship(),
			a.show(), a.verify(),
			a.serve(),
		},
		Before:         a.before,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError:   usageError,
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return unknownCommand(c, c.Args().First())
			}
			return cli.ShowRootCommandHelp(c)
		},
	}
	forEach(root, func(c *cli.Command) { c.OnUsageError, c.HideHelpCommand = usageError, true })
	return root
}

func forEach(c *cli.Command, do func(*cli.Command)) {
	do(c)
	for _, sub := range c.Commands {
		forEach(sub, do)
	}
}

// before checks the options that every command has.
func (a *app) before(ctx context.Context, _ *cli.Command) (context.Context, error) {
	if a.jobs < 1 {
		return ctx, usage("--jobs takes a number from 1 on")
	}
	if a.quiet && a.verbose {
		return ctx, usage("--quiet and --verbose exclude each other")
	}
	if a.dir == "" {
		here, err := os.Getwd()
		if err != nil {
			return ctx, usage("the current folder is gone: change to another one")
		}
		a.dir = here
	}
	if a.change != "" {
		dir := a.path(a.change)
		info, err := os.Stat(dir)
		if err != nil || !info.IsDir() {
			return ctx, usage(fmt.Sprintf("-C %s: there is no such folder", a.change))
		}
		a.base = dir
		if a.dir, err = filepath.Abs(dir); err != nil {
			return ctx, err
		}
	}
	return ctx, nil
}

// badValue is how the library says that a number is none.
var badValue = regexp.MustCompile(`^invalid value "(.*)" for flag -+([A-Za-z-]+): strconv`)

func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag provided but not defined: "); ok {
		name = "--" + strings.TrimLeft(name, "-")
		text = fmt.Sprintf("there is no option %s", name)
		var known []string
		for _, f := range append(c.Flags, c.Root().Flags...) {
			for _, n := range f.Names() {
				known = append(known, "--"+n)
			}
		}
		if close := near.Name(strings.TrimLeft(name, "-"), trimAll(known)); close != "" {
			text += fmt.Sprintf("; did you mean --%s?", close)
		}
	}
	if m := badValue.FindStringSubmatch(text); m != nil {
		text = fmt.Sprintf("--%s takes a number, not %q", m[2], m[1])
	}
	return usage(text + "\nRun \"" + c.FullName() + " --help\" to see its options")
}

func trimAll(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = strings.TrimLeft(n, "-")
	}
	return out
}

func unknownCommand(c *cli.Command, name string) error {
	var known []string
	for _, sub := range c.VisibleCommands() {
		known = append(known, sub.Name)
	}
	text := fmt.Sprintf("there is no command %q", name) + meant(name, known)
	return usage(text + "\nRun \"" + c.FullName() + " --help\" to see them all")
}

// noArgs refuses words that a command does not take.
func noArgs(c *cli.Command) error {
	if c.Args().Present() {
		return usage(fmt.Sprintf("%q takes no %q\nRun \"%s --help\" to see what it takes", c.FullName(),
			c.Args().First(), c.FullName()))
	}
	return nil
}

// oneArg gives the one word that a command takes.
func oneArg(c *cli.Command, what string) (string, error) {
	if c.NArg() != 1 {
		return "", usage(fmt.Sprintf("%q takes one %s\nRun \"%s --help\" to see an example", c.FullName(), what,
			c.FullName()))
	}
	return c.Args().First(), nil
}

// configFile finds the description file.
func (a *app) configFile() (string, error) {
	if a.config != "" {
		file := a.config
		if !filepath.IsAbs(file) {
			file = filepath.Join(a.dir, file)
		}
		if _, err := os.Stat(file); err != nil {
			return "", usage(fmt.Sprintf("--config %s: there is no such file", a.config))
		}
		return file, nil
	}
	return config.Find(a.dir)
}

// example keeps a command's example where the help and the reference find it.
func example(lines ...string) map[string]any { return map[string]any{"example": lines} }
