package main

import (
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// compile measures C: a project of 200 files beside make with as many jobs.
func (b *bench) compile() error {
	dir := filepath.Join(b.dir, "c")
	if err := writeC(dir, 200); err != nil {
		return err
	}
	jobs := fmt.Sprint(runtime.NumCPU())
	var own, others []time.Duration
	for range 3 { // by turns, so that both meet the same machine
		d, err := median(1, func() error {
			return removeAll(filepath.Join(dir, ".piedmont"),
				filepath.Join(dir, "outbox"))
		}, func() (usage, error) {
			return measure(dir, nil, b.piedmont, "make", "--quiet", "--jobs", jobs)
		})
		if err != nil {
			return err
		}
		own = append(own, d)
		if d, err = median(1, func() error { return removeAll(filepath.Join(dir, "by-hand")) }, func() (usage, error) {
			return measure(dir, nil, "make", "-s", "-j", jobs)
		}); err != nil {
			return err
		}
		others = append(others, d)
	}
	mine, theirs := middle(own), middle(others)
	b.add("200 C files, nothing compiled yet: make, with packing, beside `make -j`", seconds(mine),
		seconds(theirs), ratio(mine, theirs), "≤ 1.05")
	if err := measuredAgain(b, dir); err != nil {
		return err
	}
	return nil
}

func measuredAgain(b *bench, dir string) error {
	none := func() error { return nil }
	again, err := median(5, none, func() (usage, error) { return measure(dir, nil, b.piedmont, "make", "--quiet") })
	if err != nil {
		return err
	}
	b.add("the same with nothing changed", fmt.Sprintf("%d ms", again.Milliseconds()), "", "", "≤ 200 ms")
	return nil
}

func middle(list []time.Duration) time.Duration {
	a, b, c := list[0], list[1], list[2]
	return max(min(a, b), min(max(a, b), c))
}

// writeC makes a project with many sources, and a Makefile that does by hand
// what piedmont.toml describes.
func writeC(dir string, files int) error {
	content := map[string]string{
		"src/main.c": "int main(void) { return 0; }\n",
		"src/all.h": "#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\n#include " +
			"<math.h>\n#include <time.h>\n",
		"Makefile": "SRC := $(wildcard src/*.c)\nby-hand/prog: $(SRC:%.c=by-hand/%.o)\n\tcc -s -o $@ $^ " +
			"-lm\nby-hand/%.o: %.c\n\t@mkdir -p $(@D)\n\tcc -O2 -MD -c -o $@ $<\n",
		".gitignore": "/by-hand/\n",
		"piedmont.toml": "[project]\nname = \"many\"\n[program.prog]\nlanguage = \"c\"\nsource = \"src\"\n" +
			"libraries = [\"m\"]\nplatforms = [\"" +
			runtime.GOOS + "/" + runtime.GOARCH + "\"]\n[bundle.prog]\nprograms = [\"prog\"]\n",
	}
	for i := range files - 1 {
		var f strings.Builder
		f.WriteString("#include \"all.h\"\n")
		for k := range 12 {
			fmt.Fprintf(&f, "double f%d_%d(const char *s, int n) {\n\tdouble sum = 0;\n\tfor (int i = 0; i "+
				"< n; i++)\n\t\tsum += sin(i * %d.%d) * (double)strlen(s) + (s[i %% (int)strlen(s)] == '%c' "+
				"? sqrt(sum) : atof(s));\n\tif (sum > %d) printf(\"%%s %%f\\n\", s, sum);\n\treturn "+
				"sum;\n}\n", i, k, k, i, 'a'+k, i*k)
		}
		content[fmt.Sprintf("src/f%03d.c", i)] = f.String()
	}
	for name, text := range content {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return err
		}
	}
	for _, words := range [][]string{{"init", "-q"}, {"add", "-A"},
		{"-c", "user.name=b", "-c", "user.email=b@example.org", "commit", "-qm", "begin"}, {"tag", "v1.0.0"}} {
		cmd := exec.Command("git", words...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %v: %w\n%s", words, err, out)
		}
	}
	return nil
}

// examine measures reading a large executable.
func (b *bench) examine() error {
	dir := filepath.Join(b.dir, "examine")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	// Not held in memory: what this process has counts as its children's peak.
	data, err := os.Create(filepath.Join(dir, "data.bin"))
	if err != nil {
		return err
	}
	_, err = io.CopyN(data, rand.Reader, 100<<20)
	if closeErr := data.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return err
	}
	for name, content := range map[string][]byte{"go.mod": []byte("module large\n\ngo 1.22\n"),
		"main.go": []byte("package main\n\nimport _ \"embed\"\n\n//go:embed data.bin\nvar data " +
			"[]byte\n\nfunc main() { println(len(data)) }\n")} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o644); err != nil {
			return err
		}
	}
	cmd := exec.Command("go", "build", "-o", "large")
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("go build: %w\n%s", err, out)
	}
	var peak int64
	took, err := median(5, func() error { return nil }, func() (usage, error) {
		u, err := measure(dir, nil, b.piedmont, "show", "large")
		peak = max(peak, u.peak)
		return u, err
	})
	if err != nil {
		return err
	}
	b.add(fmt.Sprintf("`show` of a program of 100 MiB; peak memory %.0f MiB", float64(peak)/(1<<20)),
		fmt.Sprintf("%d ms", took.Milliseconds()), "", "", "≤ 300 ms, ≤ 50 MiB")
	return nil
}
