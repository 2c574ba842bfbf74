package deb

import (
	"strings"
	"testing"
)

func TestWrap(t *testing.T) {
	for text, want := range map[string]string{"": "", "one two": "one two",
		"one two three four": "one two|three four", "unbreakablylongword x": "unbreakablylongword|x"} {
		if got := strings.Join(wrap(text, 10), "|"); got != want {
			t.Errorf("%q: %q", text, got)
		}
	}
}
