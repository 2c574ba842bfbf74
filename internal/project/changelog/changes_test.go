package changelog

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
)

// history makes commits of messages, the newest first, with ids that tell them apart.
func history(messages ...string) []Commit {
	var out []Commit
	for i, m := range messages {
		out = append(out, Commit{ID: fmt.Sprintf("%040x", len(messages)-i), Parents: []string{"before"},
			Author: Person{"Ines", "ines@ridge-signals.example"}, Message: m})
	}
	return out
}

func TestRead(t *testing.T) {
	cases := map[string]Change{
		"feat: ring at noon":             {Type: "feat", Subject: "ring at noon"},
		"Fix(bell)!: ring once":          {Type: "fix", Scope: "bell", Subject: "ring once", Breaking: "ring once"},
		"feat(a b/c): x\n\nlong\nbody\n": {Type: "feat", Scope: "a b/c", Subject: "x"},
		"feat: x\n\nbody\n\nBREAKING CHANGE: the tone\nis lower now\nRefs: #3": {Type: "feat", Subject: "x",
			Breaking: "the tone is lower now"},
		"chore: x\r\n\r\nBREAKING-CHANGE: gone\r\n": {Type: "chore", Subject: "x",
			Breaking: "gone"},
		"Ring the bell":            {Subject: "Ring the bell"},
		"feat:no space":            {Subject: "feat:no space"},
		"feat : x":                 {Subject: "feat : x"},
		"feat(): x":                {Subject: "feat(): x"},
		"a sentence: with a colon": {Subject: "a sentence: with a colon"},
		"Revert \"feat: x\"\n\nThis reverts commit 0123456789abcdef0123456789abcdef01234567.": {Type: "revert",
			Subject: "feat: x", Reverts: []string{"0123456789abcdef0123456789abcdef01234567"}},
		"revert: the noon bell\n\nRefs: 676104e, a215868": {Type: "revert",
			Subject: "the noon bell", Reverts: []string{"676104e", "a215868"}},
		"": {},
	}
	for message, want := range cases {
		got := Read(Commit{Message: message})
		got.Commit = Commit{}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("%q\ngot  %+v\nwant %+v", message, got, want)
		}
	}
	c := Read(Commit{Author: Person{"Ines", "i@x"},
		Message: "fix: x\n\nCo-authored-by: Jorik Feld <j@x>\nCo-Authored-By: Ute <u@x>\n"})
	if !reflect.DeepEqual(c.Authors, []Person{{"Ines", "i@x"}, {"Jorik Feld", "j@x"}, {"Ute", "u@x"}}) {
		t.Errorf("authors: %+v", c.Authors)
	}
}

// A revert cancels what it reverts; a reverted revert cancels itself; a merge
// says nothing; a revert of something older stays.
func TestReverts(t *testing.T) {
	list := history(
		"revert: b is gone\n\nRefs: "+fmt.Sprintf("%040x", 2),
		"Merge branch 'x'",
		"Revert \"Revert feat: a\"\n\nThis reverts commit "+fmt.Sprintf("%040x", 3)+".",
		"Revert \"feat: a\"\n\nThis reverts commit "+fmt.Sprintf("%040x", 1)+".",
		"fix: b", "feat: a",
	)
	list[1].Parents = []string{"one", "other"}
	var got []string
	for _, c := range ReadAll(list) {
		got = append(got, c.Subject)
	}
	if strings.Join(got, ",") != "a" {
		t.Errorf("left: %q", got)
	}
	if left := ReadAll(history("Revert \"feat: old\"\n\nThis reverts commit " +
		"ffffffffffffffffffffffffffffffffffffffff.")); len(left) != 1 || left[0].Type != "revert" {
		t.Errorf("a revert of an older release's commit: %+v", left)
	}
}

func TestDecide(t *testing.T) {
	cases := []struct{ last, messages, want string }{
		{"1.4.0", "fix: a", "1.4.1"}, {"1.4.0", "fix: a|feat: b", "1.5.0"},
		{"1.4.0", "fix!: a|feat: b", "2.0.0"}, {"1.4.0", "chore: a|Something", ""},
		{"0.4.0", "feat!: a", "0.5.0"}, {"0.4.0", "fix: a", "0.4.1"}, {"", "fix: a", "0.1.0"},
		{"1.4.0-rc.1", "fix: a", "1.4.0"}, {"1.4.1-rc.1", "feat: a", "1.5.0"}, {"1.4.0-rc.1", "docs: a", ""},
		{"2.0.0-rc.1", "feat!: a", "2.0.0"}, {"1.4.0-rc.1", "feat!: a", "2.0.0"},
	}
	for _, c := range cases {
		d, err := DefaultRules().Decide(c.last, ReadAll(history(strings.Split(c.messages, "|")...)))
		if err != nil || d.Version != c.want {
			t.Errorf("%s with %s: %q %v, want %q", c.last, c.messages, d.Version, err, c.want)
		}
	}
	d, err := DefaultRules().Decide("0.4.0", ReadAll(history("feat: b", "fix!: a")))
	if err != nil || !d.Early || d.Change != Major || len(d.Because) != 1 || d.Because[0].Subject != "a" {
		t.Errorf("%+v %v", d, err)
	}
	strict := DefaultRules()
	strict.Early = Major
	if d, err := strict.Decide("0.4.0", ReadAll(history("feat!: a"))); err != nil || d.Version != "1.0.0" {
		t.Errorf("%+v %v", d, err)
	}
}

func TestAs(t *testing.T) {
	cases := []struct{ wish, last, decided, want string }{
		{"major", "1.4.2", "", "2.0.0"}, {"minor", "1.4.2", "", "1.5.0"}, {"patch", "1.4.2", "", "1.4.3"},
		{"patch", "1.5.0-rc.2", "", "1.5.0"},
		{"rc", "1.4.2", "1.5.0", "1.5.0-rc.1"}, {"rc", "1.5.0-rc.1", "1.5.0", "1.5.0-rc.2"},
		{"rc", "1.5.0-rc.9", "", "1.5.0-rc.10"}, {"rc", "1.5.0-rc.1", "2.0.0", "2.0.0-rc.1"},
		{"rc", "1.4.2", "", "1.4.3-rc.1"}, {"3.0.0", "1.4.2", "", "3.0.0"}, {"1.0.0", "", "", "1.0.0"},
		{"1.4.2", "1.4.2", "", ""}, {"1.4.1", "1.4.2", "", ""}, {"v2", "1.4.2", "", ""}, {"bigger", "1.4.2", "", ""},
	}
	for _, c := range cases {
		got, err := As(c.wish, c.last, Decision{Version: c.decided})
		if got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%s after %s: %q %v, want %q", c.wish, c.last, got, err, c.want)
		}
	}
}

func TestNotes(t *testing.T) {
	list := ReadAll(history("fix(relay): keep <the> line",
		"feat!: ring at noon\n\nBREAKING CHANGE: noon is 12:00 UTC\nCo-authored-by: Jorik <j@x>",
		"Something else", "chore: tidy", "odd: a type of our own"))
	n := Notes{Version: "1.5.0", Date: "2026-05-02", Last: "1.4.0", From: "v1.4.0", To: "v1.5.0",
		Repository: "https://code.example.org/hutbell/"}
	got := n.Body(DefaultRules(), list) + "\n" + n.Tail(list)
	link := func(i int) string {
		return fmt.Sprintf("([%.8s](https://code.example.org/hutbell/commit/%040x))", fmt.Sprintf("%040x", i), i)
	}
	want := "### Breaking\n\n- noon is 12:00 UTC " + link(4) + "\n\n### New\n\n- ring at noon " + link(4) +
		"\n\n### Mended\n\n- **relay:** keep &lt;the> line " + link(5) +
		"\n\n### Other changes\n\n- Something else " + link(3) + "\n- a type of our own " + link(1) +
		"\n\n### Contributors\n\nInes, Jorik\n\n" +
		"Everything since 1.4.0: [v1.4.0...v1.5.0](https://code.example.org/hutbell/compare/v1.4.0...v1.5.0)\n"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if empty := n.Body(DefaultRules(), ReadAll(history("chore: x"))); empty != "Nothing that a user would notice.\n" {
		t.Errorf("%q", empty)
	}
}

func TestChangelog(t *testing.T) {
	const section = "## 1.5.0 (2026-05-02)\n\n- new\n"
	for before, want := range map[string]string{
		"": "# Changes\n\n" + section,
		"# Changes\n\nIntro.\n\n## 1.4.0\n\n- old": "# Changes\n\nIntro.\n\n" + section + "\n## 1.4.0\n\n- old",
		"# Changes\n":       "# Changes\n\n" + section + "\n",
		"## 1.4.0\n":        section + "\n## 1.4.0\n",
		"no heading at all": section + "\nno heading at all",
		"# Changes\r\n\r\n## 1.4.0\r\n": "# Changes\r\n\r\n" + strings.ReplaceAll(section, "\n", "\r\n") +
			"\r\n## 1.4.0\r\n",
	} {
		if got := AddSection(before, section); got != want {
			t.Errorf("%q\ngot  %q\nwant %q", before, got, want)
		}
	}
	log := "# Changes\n\n## [v1.4.0-rc.1] - 2026\n\n- candidate\n\n## 1.4.0 (2026-05-02)\n\n### New\n\n- " +
		"it\n\n## 11.4.0\n\n- no\n"
	for version, want := range map[string]string{"1.4.0": "### New\n\n- it\n", "1.4.0-rc.1": "- candidate\n",
		"11.4.0": "- no\n", "4.0": "", "1.4": ""} {
		if got, ok := FindSection(log, version); got != want || ok != (want != "") {
			t.Errorf("%s: %q %v", version, got, ok)
		}
	}
}
