// Command reference writes the parts of docs/ that are made from the code.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"piedmont/internal/cli"
)

func main() {
	files, err := cli.Reference()
	if err == nil {
		for name, data := range files {
			if err = os.WriteFile(filepath.Join(os.Args[1], name), data, 0o644); err != nil {
				break
			}
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
