package release

import (
	"encoding/json"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"
)

func sample() *Manifest {
	return &Manifest{Format: Format, Project: Project{Name: "hutbell"}, Version: "1.4.0", Tag: "v1.4.0",
		Commit: Commit{ID: strings.Repeat("3f", 20), Time: time.Date(2026, 5, 2, 7, 30, 0, 0, time.UTC)},
		Files: []Artifact{{Name: "b.zip", Kind: "bundle", MediaType: "application/zip", Size: 3,
			SHA256: strings.Repeat("ab", 32), SHA512: strings.Repeat("cd", 64)},
			{Name: "a.tar.gz", Kind: "source", MediaType: "application/gzip", Size: 4,
				SHA256: strings.Repeat("12", 32), SHA512: strings.Repeat("34", 64)}}}
}

func TestEncodeAndSums(t *testing.T) {
	m := sample()
	data, err := m.Encode()
	if err != nil {
		t.Fatal(err)
	}
	back, err := Parse(data)
	if err != nil || !reflect.DeepEqual(m, back) {
		t.Errorf("%v\n%+v", err, back)
	}
	if m.Files[0].Name != "a.tar.gz" {
		t.Error("the files are not sorted")
	}
	sums := string(m.Sums(data))
	want := strings.Repeat("12", 32) + "  a.tar.gz\n" + strings.Repeat("ab", 32) + "  b.zip\n" + Digest(data) +
		"  manifest.json\n"
	if sums != want {
		t.Errorf("got\n%swant\n%s", sums, want)
	}
	parsed, err := ParseSums([]byte(sums))
	if err != nil || len(parsed) != 3 {
		t.Errorf("%v %v", parsed, err)
	}
}

// A manifest from outside cannot name what leaves its folder, what Windows or
// the release itself needs, or one place twice.
func TestHostile(t *testing.T) {
	names := []string{"", ".", "..", "../x", "a/b", "/etc/passwd", `a\b`, `C:\x`, ".hidden", "-rf", "a\x00b",
		"a\nb", "con", "NUL.txt", "com1.zip", "a:b",
		"manifest.json", "MANIFEST.JSON", "SHA256SUMS", "sha256sums", "index.html", "release.json", "x.",
		strings.Repeat("a", 201), "ü", "a b", "%2e%2e"}
	for _, name := range names {
		m := sample()
		m.Files[0].Name = name
		if m.Check() == nil {
			t.Errorf("the file name %q was accepted", name)
		}
	}
	for _, project := range []string{"", "..", "../x", "A", "a/b", "api", "latest", ".a", "a..b", "nul", "x."} {
		m := sample()
		m.Project.Name = project
		if m.Check() == nil {
			t.Errorf("the project name %q was accepted", project)
		}
	}
	for _, v := range []string{"", "1", "1.2", "v1.2.3", "1.2.3/..", "../1.2.3", "1.2.3-",
		strings.Repeat("1", 200) + ".0.0"} {
		m := sample()
		m.Version = v
		if m.Check() == nil {
			t.Errorf("the version %q was accepted", v)
		}
	}
	changes := map[string]func(*Manifest){
		"another format":  func(m *Manifest) { m.Format = "piedmont-manifest/2" },
		"no files":        func(m *Manifest) { m.Files = nil },
		"two of one name": func(m *Manifest) { m.Files[1].Name = "B.ZIP" },
		"a negative size": func(m *Manifest) { m.Files[0].Size = -1 },
		"a short digest":  func(m *Manifest) { m.Files[0].SHA256 = "ab" },
		"an upper digest": func(m *Manifest) { m.Files[0].SHA512 = strings.Repeat("CD", 64) },
		"no commit":       func(m *Manifest) { m.Commit.ID = "HEAD" },
	}
	for name, change := range changes {
		m := sample()
		change(m)
		if m.Check() == nil {
			t.Errorf("%s was accepted", name)
		}
	}
}

func TestDifference(t *testing.T) {
	have, want := sample(), sample()
	want.Files[0].SHA256 = strings.Repeat("00", 32)
	want.Files[1].Name = "c.zip"
	got := strings.Join(Difference(have, want), ", ")
	if got != "b.zip differs, c.zip is new, a.tar.gz is gone" {
		t.Error(got)
	}
}

// The published schema names exactly the keys that are written.
func TestSchemaNamesTheKeys(t *testing.T) {
	data, err := os.ReadFile("../../docs/manifest.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	type node struct {
		Ref        string                     `json:"$ref"`
		Defs       map[string]json.RawMessage `json:"$defs"`
		Properties map[string]json.RawMessage
		Items      json.RawMessage
	}
	var root node
	if err := json.Unmarshal(data, &root); err != nil {
		t.Fatal(err)
	}
	seen := map[reflect.Type]bool{}
	var walk func(raw json.RawMessage, typ reflect.Type)
	walk = func(raw json.RawMessage, typ reflect.Type) {
		var n node
		if err := json.Unmarshal(raw, &n); err != nil {
			t.Fatal(err)
		}
		if name, ok := strings.CutPrefix(n.Ref, "#/$defs/"); ok {
			walk(root.Defs[name], typ)
			return
		}
		switch typ.Kind() {
		case reflect.Pointer:
			walk(raw, typ.Elem())
			return
		case reflect.Slice:
			walk(n.Items, typ.Elem())
			return
		}
		if typ == reflect.TypeFor[Entry]() {
			typ = reflect.TypeFor[recorded]()
		}
		if typ.Kind() != reflect.Struct || seen[typ] || typ == reflect.TypeFor[time.Time]() {
			return
		}
		seen[typ] = true
		keys := 0
		for i := range typ.NumField() {
			key, _, _ := strings.Cut(typ.Field(i).Tag.Get("json"), ",")
			if key == "-" {
				continue
			}
			keys++
			if n.Properties[key] == nil {
				t.Errorf("the schema lacks %s of %s", key, typ)
				continue
			}
			walk(n.Properties[key], typ.Field(i).Type)
		}
		if len(n.Properties) != keys {
			t.Errorf("the schema has %d keys for %s, which has %d", len(n.Properties), typ, keys)
		}
	}
	walk(data, reflect.TypeFor[Manifest]())
}

func FuzzParse(f *testing.F) {
	data, err := sample().Encode()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Add([]byte(`{"format":"piedmont-manifest/1","files":[{"name":"../x"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Parse(data)
		if err != nil {
			return
		}
		for _, file := range m.Files {
			if strings.ContainsAny(file.Name, "/\\\x00:") || strings.HasPrefix(file.Name, ".") {
				t.Errorf("accepted the name %q", file.Name)
			}
		}
	})
}
