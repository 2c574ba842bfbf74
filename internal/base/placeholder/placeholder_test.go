package placeholder

import (
	"strings"
	"testing"
)

func TestFill(t *testing.T) {
	v := Values{"project": "hutbell", "version": "1.4.0", "os": ""}
	for text, want := range map[string]string{"": "", "plain": "plain",
		"{project}-{version}{os}": "hutbell-1.4.0", "{version}{version}": "1.4.01.4.0"} {
		if got, err := Fill(text, v); err != nil || got != want {
			t.Errorf("%q: %q %v", text, got, err)
		}
	}
	for text, offset := range map[string]int{"{": 0, "a{version": 1, "a}b": 1, "{{version}}": 0, "x{arch}": 1,
		"{}": 0, "{+version}": 0} {
		_, err := Fill(text, v)
		bad, ok := err.(*Error)
		if !ok || bad.Offset != offset {
			t.Errorf("%q: %v", text, err)
		}
		if checked := Check(text, v.Names()); checked == nil || checked.Error() != err.Error() {
			t.Errorf("%q: Check says %v, Fill %v", text, checked, err)
		}
	}
	if _, err := Fill("{arch}", v); !strings.Contains(err.Error(), "{os} {project} {version}") {
		t.Errorf("%v", err)
	}
}
