package lang

import (
	"slices"
	"testing"
)

func TestFill(t *testing.T) {
	v := RunValues{Stage: "/s", Work: "/w", Triplet: "x-y", Jobs: "2", Stages: Stages{"lib": "/l"}}
	got := v.Fill([]string{"DESTDIR={stage}", "--host={triplet}", "-j{jobs}", "-I{stage.lib}/include", "{work}",
		"{other}"})
	if want := []string{"DESTDIR=/s", "--host=x-y", "-j2", "-I/l/include", "/w", "{other}"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
}
