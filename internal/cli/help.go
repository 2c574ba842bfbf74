package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"
)

// printHelp writes the help of a command: its purpose, how to call it, its
// options and an example.
func printHelp(w io.Writer, _ string, data any) {
	c, ok := data.(*cli.Command)
	if !ok {
		return
	}
	var b strings.Builder
	if c.Root() == c {
		rootHelp(&b, c)
	} else {
		commandHelp(&b, c)
	}
	_, _ = io.WriteString(w, b.String())
}

func rootHelp(b *strings.Builder, c *cli.Command) {
	fmt.Fprintf(b, "Piedmont %s.\n\n  piedmont COMMAND [options]\n", c.Usage)
	for _, group := range []string{groupFirst, groupWork, groupLook, groupServe} {
		fmt.Fprintf(b, "\n%s\n", group)
		for _, sub := range c.Commands {
			if sub.Category == group {
				fmt.Fprintf(b, "  %-9s %s\n", sub.Name, sub.Usage)
			}
		}
	}
	b.WriteString("\nOptions of every command\n")
	options(b, c.Flags)
	b.WriteString("\nExit status\n")
	for _, s := range statuses {
		fmt.Fprintf(b, "  %-9d %s\n", s.code, s.text)
	}
	b.WriteString("\n\"piedmont COMMAND --help\" tells more about one.\n")
}

func commandHelp(b *strings.Builder, c *cli.Command) {
	fmt.Fprintf(b, "%s %s.\n\n  %s\n", c.FullName(), c.Usage, callForm(c))
	if c.Description != "" {
		fmt.Fprintf(b, "\n%s\n", strings.TrimSpace(c.Description))
	}
	if len(c.Commands) > 0 {
		b.WriteString("\nCommands\n")
		for _, sub := range c.Commands {
			fmt.Fprintf(b, "  %-9s %s\n", sub.Name, sub.Usage)
		}
	}
	if len(ownFlags(c)) > 0 {
		b.WriteString("\nOptions\n")
		options(b, ownFlags(c))
	}
	b.WriteString("\nOptions of every command\n")
	options(b, c.Root().Flags)
	b.WriteString("\nExample\n")
	for _, line := range examples(c) {
		fmt.Fprintf(b, "  %s\n", line)
	}
}

func callForm(c *cli.Command) string {
	form := c.FullName()
	if c.ArgsUsage != "" {
		form += " " + c.ArgsUsage
	}
	return form + " [options]"
}

func examples(c *cli.Command) []string {
	lines, _ := c.Metadata["example"].([]string)
	return lines
}

// ownFlags are those that the reader should see besides the common ones.
func ownFlags(c *cli.Command) []cli.Flag {
	var out []cli.Flag
	for _, f := range c.Flags {
		if f.Names()[0] != "help" && f.Names()[0] != "version" {
			out = append(out, f)
		}
	}
	return out
}

func options(b *strings.Builder, flags []cli.Flag) {
	for _, f := range flags {
		name, text := flagText(f)
		if name != "" {
			fmt.Fprintf(b, "  %-18s %s\n", name, text)
		}
	}
}

// flagText gives an option as it is written and what it does.
func flagText(f cli.Flag) (name, text string) {
	d, ok := f.(cli.DocGenerationFlag)
	if !ok || f.Names()[0] == "help" || f.Names()[0] == "version" {
		return "", ""
	}
	name = "--" + f.Names()[0]
	if len(f.Names()[0]) == 1 {
		name = "-" + f.Names()[0]
	}
	text = d.GetUsage()
	if before, rest, ok := strings.Cut(text, "`"); ok {
		value, after, _ := strings.Cut(rest, "`")
		name, text = name+" "+value, before+value+after
	}
	return name, text
}
