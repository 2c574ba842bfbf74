package cli

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"piedmont/internal/cli/term"
	"piedmont/internal/config"
	"piedmont/internal/kinds"
)

//go:generate go run ./docs ../../docs

// jsonReference describes the documents of --json.
//
//go:embed json.md
var jsonReference string

const generated = "<!-- Made from the code by \"go generate ./...\": change it there. -->\n\n"

// Reference writes the documents that are made from the code, by file name.
func Reference() (map[string][]byte, error) {
	var schema bytes.Buffer
	enc := json.NewEncoder(&schema)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(config.Schema(tables())); err != nil {
		return nil, err
	}
	return map[string][]byte{
		"commands.md":          commandsReference(),
		"configuration.md":     configurationReference(),
		"piedmont.schema.json": schema.Bytes(),
	}, nil
}

// tables are those of the description, read without asking anything.
func tables() []config.Table { return kinds.New(kinds.Options{}).Tables() }

func commandsReference() []byte {
	a := &app{screen: term.New(nil, nil, nil)}
	root := a.root()
	var b strings.Builder
	b.WriteString("# Commands\n\n" + generated)
	b.WriteString("Results go to standard output, progress and errors to standard error. In a\nterminal " +
		"progress is a live view; elsewhere it is plain lines. `NO_COLOR` turns\ncolours off.\n\n")
	b.WriteString("## Options of every command\n\n| option | what it does |\n|---|---|\n")
	optionRows(&b, root.Flags)
	b.WriteString("\n## Exit status\n\n| status | meaning |\n|---|---|\n")
	for _, s := range statuses {
		fmt.Fprintf(&b, "| %d | %s |\n", s.code, s.text)
	}
	for _, c := range root.Commands {
		commandReference(&b, c, "piedmont", 2)
	}
	b.WriteString(jsonReference)
	return []byte(b.String())
}

func commandReference(b *strings.Builder, c *cli.Command, above string, level int) {
	name := above + " " + c.Name
	fmt.Fprintf(b, "\n%s %s\n\n%s.\n\n", strings.Repeat("#", level), name, strings.ToUpper(c.Usage[:1])+c.Usage[1:])
	if c.Description != "" {
		fmt.Fprintf(b, "%s\n\n", strings.TrimSpace(c.Description))
	}
	form := name
	if c.ArgsUsage != "" {
		form += " " + c.ArgsUsage
	}
	fmt.Fprintf(b, "```\n%s [options]\n```\n", form)
	if len(ownFlags(c)) > 0 {
		b.WriteString("\n| option | what it does |\n|---|---|\n")
		optionRows(b, ownFlags(c))
	}
	b.WriteString("\nExample:\n\n```sh\n" + strings.Join(examples(c), "\n") + "\n```\n")
	for _, sub := range c.Commands {
		commandReference(b, sub, name, level+1)
	}
}

func optionRows(b *strings.Builder, flags []cli.Flag) {
	for _, f := range flags {
		if name, text := flagText(f); name != "" {
			fmt.Fprintf(b, "| `%s` | %s |\n", name, text)
		}
	}
}

func configurationReference() []byte {
	var b strings.Builder
	b.WriteString("# piedmont.toml\n\n" + generated)
	b.WriteString("The file is TOML 1.0. Unknown keys are errors, and all errors of a file are told\nat " +
		"once. An editor that knows JSON Schema can use\n[piedmont.schema.json](piedmont.schema.json).\n\n")
	b.WriteString("A text may hold placeholders where its key says so: a name in braces, such " +
		"as\n`{version}`, that stands for a value. Paths are relative to the folder of the file\nand have " +
		"forward slashes on every system.\n")
	for _, t := range config.Reference(tables()) {
		need := ""
		if t.Need {
			need = " This table must be there."
		}
		title := "## " + t.Name
		if t.Of != "" {
			title += " with " + t.Of
		}
		fmt.Fprintf(&b, "\n%s\n\n%s%s\n\n", title, t.Doc, need)
		for _, k := range t.Keys {
			fmt.Fprintf(&b, "### %s\n\n%s\n\n", k.Name, k.Doc)
			facts := []string{"Type: " + k.Type + "."}
			if k.Need {
				facts = append(facts, "Needed.")
			}
			if k.Default != "" {
				facts = append(facts, "Without it: `"+k.Default+"`.")
			}
			if len(k.Choice) > 0 {
				facts = append(facts, "One of `"+strings.Join(k.Choice, "`, `")+"`.")
			}
			if len(k.Placeholders) > 0 {
				facts = append(facts, "Placeholders: `{"+strings.Join(k.Placeholders, "}` `{")+"}`.")
			}
			fmt.Fprintf(&b, "%s\n\n", strings.Join(facts, " "))
			if k.Example != "" {
				fmt.Fprintf(&b, "```toml\n%s\n```\n\n", k.Example)
			}
		}
	}
	return []byte(strings.TrimRight(b.String(), "\n") + "\n")
}
