package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"

	"piedmont/internal/cli/term"
)

func TestReferenceIsCurrent(t *testing.T) {
	files, err := Reference()
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range files {
		have, err := os.ReadFile(filepath.Join("../../docs", name))
		if err != nil || string(have) != string(want) {
			t.Errorf("docs/%s is not what the code says (%v): run go generate ./...", name, err)
		}
	}
}

// Every command has a one-line purpose, an example, and a text for each option.
func TestEveryCommandExplainsItself(t *testing.T) {
	a := &app{screen: term.New(nil, nil, nil)}
	forEach(a.root(), func(c *cli.Command) {
		if c.Name == "piedmont" {
			return
		}
		if c.Usage == "" || strings.Contains(c.Usage, "\n") || len(examples(c)) == 0 {
			t.Errorf("%s has no purpose or no example", c.Name)
		}
		for _, f := range ownFlags(c) {
			if _, text := flagText(f); text == "" {
				t.Errorf("%s: --%s is not explained", c.Name, f.Names()[0])
			}
		}
	})
}
