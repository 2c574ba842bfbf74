package near

import "testing"

func TestName(t *testing.T) {
	known := []string{"make", "publish", "plan", "linux/amd64", "größe"}
	for name, want := range map[string]string{
		"mkae": "make", "publsh": "publish", "Plan": "plan", "linux/amd46": "linux/amd64", "grösse": "größe",
		"verify": "", "": "", "x": "",
	} {
		if got := Name(name, known); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
	if got := Question("mkae", known) + Question("zzz", known); got != `did you mean "make"?` {
		t.Error(got)
	}
}

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"", "abc", 3}, {"abc", "", 3}, {"kitten", "sitting", 3}, {"flaw", "lawn", 2}, {"ä", "a", 1}} {
		if got := distance(c.a, c.b); got != c.want {
			t.Errorf("%q and %q: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}
