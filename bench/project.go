package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"piedmont/internal/cli/demo"
)

var platforms = []string{"linux/amd64", "linux/arm64", "linux/arm", "darwin/amd64", "darwin/arm64", "windows/amd64"}

// description is the release of the generated project: three bundles for six
// platforms and two source archives, which makes 23 files.
const description = `[project]
name = "bells"

[platforms]
all = ["linux/amd64", "linux/arm64", "linux/arm", "darwin/amd64", "darwin/arm64", "windows/amd64"]

[program.one]
language = "go"
source = "./cmd/one"
platforms = "all"

[program.two]
language = "go"
source = "./cmd/two"
platforms = "all"

[program.three]
language = "go"
source = "./cmd/three"
platforms = "all"

[program.four]
language = "go"
source = "./cmd/four"
platforms = "all"

[bundle.pair]
programs = ["one", "two"]
files = ["README.md"]
name = "pair-{version}-{os}-{arch}"
formats = { default = "tar.gz", windows = "zip" }

[bundle.three]
programs = ["three"]
name = "three-{version}-{os}-{arch}"
formats = { default = "tar.gz", windows = "zip" }

[bundle.four]
programs = ["four"]
name = "four-{version}-{os}-{arch}"
formats = { default = "tar.gz", windows = "zip" }

[source]
formats = ["tar.gz", "zip"]
`

// generated writes a Go project of a realistic size: four programs over twenty
// packages, which use much of the standard library.
func (b *bench) generated() (string, error) {
	dir := filepath.Join(b.dir, "bells")
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	files := map[string]string{"go.mod": "module bells\n\ngo 1.22\n",
		"README.md": strings.Repeat("Bells for huts.\n", 200), "piedmont.toml": description}
	var imports, calls strings.Builder
	for i := range 20 {
		var code strings.Builder
		fmt.Fprintf(&code, "package p%02d\n\nimport (\n\t\"encoding/json\"\n\t\"fmt\"\n\t\"strings\"\n)\n\n", i)
		for j := range 60 {
			fmt.Fprintf(&code, "// T%d is a kind of bell.\ntype T%d struct {\n\tName string "+
				"`json:\"name\"`\n\tTones map[string][]int `json:\"tones\"`\n\tLoud float64\n}\n\n", j, j)
			fmt.Fprintf(&code, "// Ring%d rings it.\nfunc (t *T%d) Ring%d(n int) (string, error) {\n\tfor i "+
				":= 0; i < n; i++ {\n\t\tt.Tones[fmt.Sprint(i)] = append(t.Tones[fmt.Sprint(i%%%d)], "+
				"i*%d)\n\t}\n\tdata, err := json.Marshal(t)\n\tif err != nil {\n\t\treturn \"\", "+
				"fmt.Errorf(\"bell %d: %%w\", err)\n\t}\n\treturn strings.ToUpper(string(data)), "+
				"nil\n}\n\n", j, j, j, j+3, i*j+1, j)
		}
		code.WriteString("// All rings every one.\nfunc All() string {\n\tvar out []string\n")
		for j := range 60 {
			fmt.Fprintf(&code, "\tif s, err := (&T%d{Tones: map[string][]int{}}).Ring%d(%d); err == nil "+
				"{\n\t\tout = append(out, s)\n\t}\n", j, j, j)
		}
		code.WriteString("\treturn strings.Join(out, \"\")\n}\n")
		files[fmt.Sprintf("p%02d/p.go", i)] = code.String()
		fmt.Fprintf(&imports, "\t\"bells/p%02d\"\n", i)
		fmt.Fprintf(&calls, "\tfmt.Println(p%02d.All())\n", i)
	}
	for name, more := range map[string]string{"one": "net/http", "two": "net/rpc", "three": "text/template",
		"four": "encoding/xml"} {
		files["cmd/"+name+"/main.go"] = "package main\n\nimport (\n\t\"fmt\"\n\t_ \"" + more + "\"\n" +
			imports.String() + ")\n\nfunc main() {\n" + calls.String() + "}\n"
	}
	if err := writeFiles(dir, files); err != nil {
		return "", err
	}
	return dir, commit(dir, "v1.0.0")
}

// demo writes the sample project.
func (b *bench) demo() (string, error) {
	dir := filepath.Join(b.dir, "hutbell")
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if err := demo.Write(context.Background(), dir, nil); err != nil {
		return "", err
	}
	_, err := measure(dir, nil, "git", "tag", "v"+demo.Version)
	return dir, err
}

func writeFiles(dir string, files map[string]string) error {
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			return err
		}
	}
	return nil
}

func commit(dir, tag string) error {
	env := []string{"GIT_CONFIG_GLOBAL=" + os.DevNull, "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME=Ines",
		"GIT_AUTHOR_EMAIL=ines@ridge-signals.example",
		"GIT_COMMITTER_NAME=Ines", "GIT_COMMITTER_EMAIL=ines@ridge-signals.example"}
	for _, args := range [][]string{{"init", "--quiet"}, {"add", "--all"}, {"commit", "--quiet", "--message",
		"Begin"}, {"tag", tag}} {
		if _, err := measure(dir, env, "git", args...); err != nil {
			return err
		}
	}
	return nil
}

// large writes a file of n bytes: random ones, or such that compress to about a half.
func large(path string, n int64, compressible bool) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	x := uint64(88172645463325252)
	block := make([]byte, 1<<20)
	for written := int64(0); written < n; written += int64(len(block)) {
		for i := 0; i < len(block); i += 8 {
			x ^= x << 13
			x ^= x >> 7
			x ^= x << 17
			v := x
			if compressible {
				v &= 0x0f0f0f0f0f0f0f0f
			}
			for k := range 8 {
				block[i+k] = byte(v >> (8 * k))
			}
		}
		if _, err := f.Write(block); err != nil {
			_ = f.Close()
			return err
		}
	}
	return f.Close()
}
