package lang

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

func TestFillAll(t *testing.T) {
	v := runValues{stage: "/s", work: "/w", triplet: "x-y", jobs: "2", stages: Stages{"lib": "/l"}}
	got := fillAll([]string{"DESTDIR={stage}", "--host={triplet}", "-j{jobs}", "-I{stage.lib}/include", "{work}", "{other}"}, v)
	if want := []string{"DESTDIR=/s", "--host=x-y", "-j2", "-I/l/include", "/w", "{other}"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
}
