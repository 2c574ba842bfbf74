package place

import (
	"strings"
	"testing"
)

var files = map[string]string{
	"VERSION":  "1.4.0\n",
	"crlf.txt": "\r\n  1.4.0 \r\n",
	"Cargo.toml": "# the package\r\n[package]\r\nname = \"hutbell\"   # yes\r\nversion   =  '1.4.0'\t# " +
		"keep\r\n\r\n[dependencies]\r\nx = { version = \"2.0.0\" }\r\n[[bin]]\r\nversion = \"9\"\r\n",
	"inline.toml": "a.b = { c = { version = \"1.4.0\" }, d = 3 }",
	"package.json": "{\n  \"name\": \"version\",\n  \"deps\": [{\"version\": \"3.0.0\"}],\n  \"version\" : " +
		"\"1.4.0\",\n  \"nested\": {\"version\": \"5.0.0\"}\n}",
	"app.xml": "<?xml version=\"1.0\"?>\n<Project>\n  <!-- 1.4.0 -->\n  " +
		"<Other><Version>2.0.0</Version></Other>\n  <Version>\n    1.4.0\n  </Version>\n</Project>",
	"install.md": "# Install release 1.4.0\n\nGet it.\nrelease-1.4.0\n",
}

func TestFindAndReplace(t *testing.T) {
	for _, written := range []string{"VERSION", "crlf.txt", "Cargo.toml:package.version",
		"inline.toml:a.b.c.version", "package.json:version", "app.xml:/Project/Version",
		`install.md:/release ([0-9.]+)/`} {
		p, err := Parse(written)
		if err != nil {
			t.Fatal(err)
		}
		if p.String() != written {
			t.Errorf("%q is written back as %q", written, p)
		}
		data := []byte(files[p.File])
		got, start, end, err := p.Find(data)
		if err != nil || got != "1.4.0" {
			t.Errorf("%s: %q %v", p, got, err)
			continue
		}
		changed, err := p.Replace(data, "1.5.0-rc.1")
		want := string(data[:start]) + "1.5.0-rc.1" + string(data[end:])
		if p.pattern == nil && (err != nil || string(changed) != want) {
			t.Errorf("%s: %v\n%s", p, err, changed)
		}
		changed, err = p.Replace(data, "1.5.0")
		if err != nil || strings.Count(string(changed), "1.5.0") != 1 || len(changed) != len(data) {
			t.Errorf("%s: %v\n%s", p, err, changed)
		}
	}
}

func TestNotFound(t *testing.T) {
	cases := map[string]string{
		"empty:":                           "must be a pattern",
		"Cargo.toml:package.versoin":       "no such key",
		"Cargo.toml:bin.version":           "no such key",
		"Cargo.toml:package":               "its value is no text",
		"package.json:nested":              "no text",
		"package.json:deps.version":        "no such key",
		"app.xml:/Project/Other":           "no plain text",
		"app.xml:/Project/Nothing":         "no such element",
		`install.md:/release.([0-9.]+)/`:   "in the lines 1 and 4",
		`install.md:/edition ([0-9.]+)/`:   "matches nothing",
		`install.md:/release/`:             "needs one group",
		`install.md:/(release) ([0-9.]+)/`: "needs one group",
		`install.md:/(/`:                   "is not a pattern",
		"../VERSION":                       "names no file of the project",
		"/etc/version":                     "names no file of the project",
		"":                                 "names no file of the project",
		"Cargo.toml:package..version":      "empty part",
	}
	for written, want := range cases {
		p, err := Parse(written)
		if err == nil {
			_, _, _, err = p.Find([]byte(files[p.File]))
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", written, err, want)
		}
	}
}

// A version that the pattern would not find again is not written.
func TestReplaceIsChecked(t *testing.T) {
	p, err := Parse(`install.md:/release ([0-9.]+)\n/`)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Replace([]byte(files["install.md"]), "1.5.0-rc.1"); err == nil {
		t.Error("it was written")
	}
}

func FuzzFind(f *testing.F) {
	for name, content := range files {
		f.Add(name+":version", content)
		f.Add(name+":/Project/Version", content)
	}
	f.Fuzz(func(t *testing.T, written, content string) {
		p, err := Parse(written)
		if err != nil {
			return
		}
		value, start, end, err := p.Find([]byte(content))
		if err != nil {
			return
		}
		if start < 0 || end > len(content) || content[start:end] != value {
			t.Errorf("%q at %d to %d of %q", value, start, end, content)
		}
		changed, err := p.Replace([]byte(content), "1.2.3")
		if err == nil && string(changed) != content[:start]+"1.2.3"+content[end:] {
			t.Errorf("more than the version changed: %q", changed)
		}
	})
}
