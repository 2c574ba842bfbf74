package history

import (
	"strings"
	"testing"
	"time"

	"piedmont/internal/config"
	"piedmont/internal/project"
	"piedmont/internal/project/changelog"
	"piedmont/internal/project/git"
	"piedmont/internal/project/projecttest"
	"piedmont/internal/project/version"
)

func document(t *testing.T, dir, text string) *config.Document {
	t.Helper()
	d, err := config.Parse(dir+"/piedmont.toml", []byte("[project]\nname = \"chime\"\n"+text),
		[]config.Table{project.Table(), version.Table(), changelog.Table()})
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestSince(t *testing.T) {
	dir := projecttest.New(t, nil)
	for _, c := range []struct{ message, tag string }{
		{"feat: a second bell", ""}, {"fix: a crack", "v1.1.0-rc.1"}, {"fix: another", ""}, {"docs: more", "v1.1.0"},
	} {
		projecttest.Commit(t, dir, c.message, nil)
		if c.tag != "" {
			projecttest.Git(t, dir, "tag", c.tag)
		}
	}
	r, d := git.Repo{Dir: dir, Env: projecttest.Env()}, document(t, dir, "")
	for name, c := range map[string]struct {
		o     Options
		last  string
		count int
	}{
		"nothing since":        {Options{}, "1.1.0", 0},
		"a final release":      {Options{Ignore: []string{"v1.1.0"}, Final: true}, "1.0.0", 4},
		"after a pre-release":  {Options{Ignore: []string{"v1.1.0"}}, "1.1.0-rc.1", 2},
		"no release before it": {Options{Ignore: []string{"v1.0.0", "v1.1.0", "v1.1.0-rc.1"}}, "", 5},
	} {
		h, err := Since(t.Context(), r, d, c.o)
		if err != nil || h.Last != c.last || len(h.Changes) != c.count {
			t.Errorf("%s: %s, %d changes, %v", name, h.Last, len(h.Changes), err)
		}
	}
	// A higher version on another line of the history is not the last one.
	projecttest.Git(t, dir, "checkout", "--quiet", "-b", "old", "v1.0.0")
	projecttest.Commit(t, dir, "fix: the old bell", nil)
	if h, err := Since(t.Context(), r, d, Options{}); err != nil || h.Last != "1.0.0" || len(h.Changes) != 1 {
		t.Errorf("on the old line: %+v, %v", h, err)
	}
}

func TestNotes(t *testing.T) {
	dir := projecttest.New(t, nil)
	projecttest.Commit(t, dir, "feat(bell)!: other tones\n\nBREAKING CHANGE: the low tone is gone", nil)
	d := document(t, dir, "repository = \"https://code.example.org/chime\"\n")
	h, err := Since(t.Context(), git.Repo{Dir: dir, Env: projecttest.Env()}, d, Options{})
	if err != nil {
		t.Fatal(err)
	}
	notes := h.Notes(d, version.Release{Version: "2.0.0", Tag: "v2.0.0"}, time.Unix(0, 0).UTC())
	for _, want := range []string{"the low tone is gone", "other tones", "https://code.example.org/chime", "v1.0.0"} {
		if !strings.Contains(strings.ToLower(notes), want) {
			t.Errorf("%q is not in\n%s", want, notes)
		}
	}
}
