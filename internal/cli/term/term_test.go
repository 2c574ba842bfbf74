package term

import (
	"bytes"
	"errors"
	"testing"
	"time"

	"piedmont/internal/base/progress"
)

func TestTable(t *testing.T) {
	s := &Screen{outColor: true}
	got := s.Table([]Column{{Title: "file"}, {Title: "empty"}, {Title: "size", Right: true}, {Title: "name"}},
		[][]string{{"a", "", "1 B", s.Paint(Good, "green")}, {"longer-ünïcode", "", "1.5 MiB", "x"}})
	want := "  \x1b[2mfile\x1b[0m               \x1b[2msize\x1b[0m  \x1b[2mname\x1b[0m\n" +
		"  a                   1 B  \x1b[32mgreen\x1b[0m\n" +
		"  longer-ünïcode  1.5 MiB  x"
	if got != want {
		t.Errorf("got\n%q\nwant\n%q", got, want)
	}
}

func TestPlainLines(t *testing.T) {
	events := []progress.Event{
		progress.Began{What: "make", Steps: 3}, progress.Started{ID: "a", Title: "pack a"},
		progress.Moved{ID: "a", Done: 3},
		progress.Finished{ID: "a", Title: "pack a", Took: 1500 * time.Millisecond, Size: 2048},
		progress.Finished{ID: "b", Title: "pack b", Reused: true}, progress.Note{Text: "waiting"},
		progress.Failed{ID: "c", Title: "pack c", Err: errors.New("x")},
	}
	for name, c := range map[string]struct {
		quiet, verbose bool
		want           string
	}{
		"plain":   {false, false, "+ pack a  1.5 s, 2.0 KiB\nwaiting\nx pack c: failed\n"},
		"verbose": {false, true, "+ pack a  1.5 s, 2.0 KiB\n= pack b, unchanged\nwaiting\nx pack c: failed\n"},
		"quiet":   {true, false, "x pack c: failed\n"},
	} {
		var out bytes.Buffer
		sink, stop := (&Screen{Err: &out}).Progress(c.quiet, c.verbose)
		for _, e := range events {
			sink.Event(e)
		}
		stop()
		if out.String() != c.want {
			t.Errorf("%s: got\n%swant\n%s", name, out.String(), c.want)
		}
	}
}

func TestWords(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "1 ms", 80 * time.Millisecond: "80 ms",
		1234 * time.Millisecond: "1.2 s", 83 * time.Second: "1 min 23 s"} {
		if got := Took(d); got != want {
			t.Errorf("%s: %s, want %s", d, got, want)
		}
	}
	if Count(1, "file")+Count(0, "file")+Count(2, "file") != "1 file0 files2 files" {
		t.Error("counts")
	}
}
