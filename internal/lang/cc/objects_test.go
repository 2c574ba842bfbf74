package cc

import (
	"slices"
	"testing"
)

func TestReadDepfile(t *testing.T) {
	for text, want := range map[string][]string{
		"a.o: a.c\n": {"a.c"},
		"a.o: a.c \\\n /usr/include/stdio.h \\\n b.h\n": {"a.c", "/usr/include/stdio.h", "b.h"},
		"a.o: with\\ space.c cost$$.h x\\#y.h\n":        {"with space.c", "cost$.h", "x#y.h"},
		"a.o: a.c \\\r\n b.h\r\n":                       {"a.c", "b.h"},
		"no rule":                                       nil,
		"":                                              nil,
	} {
		if got := readDepfile(text); !slices.Equal(got, want) {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
