package ar_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"piedmont/internal/format/ar"
)

func ExampleList() {
	var out bytes.Buffer
	_ = ar.Begin(&out)
	_ = ar.Put(&out, "hut", 3, time.Unix(1777707000, 0), strings.NewReader("odd"))
	_ = ar.Put(&out, "bell", 4, time.Unix(1777707000, 0), strings.NewReader("even"))
	members, err := ar.List(bytes.NewReader(out.Bytes()), int64(out.Len()), 10)
	for _, m := range members {
		text, _ := io.ReadAll(m)
		fmt.Println(m.Name, string(text))
	}
	fmt.Println(out.Len(), err)
	// Output:
	// hut odd
	// bell even
	// 136 <nil>
}

func TestDamaged(t *testing.T) {
	var out bytes.Buffer
	_ = ar.Begin(&out)
	_ = ar.Put(&out, "a", 4, time.Unix(0, 0), strings.NewReader("even"))
	good := out.String()
	for name, text := range map[string]string{
		"nothing":         "",
		"another magic":   "!<arsh>\n",
		"no end of head":  strings.Replace(good, "`\n", "xx", 1),
		"a size of words": strings.Replace(good, "4         `", "four      `", 1),
		"negative":        strings.Replace(good, "4         `", "-4        `", 1),
		"longer than all": strings.Replace(good, "4         `", "9999999999`", 1),
	} {
		if m, err := ar.List(strings.NewReader(text), int64(len(text)), 10); err == nil {
			t.Errorf("%s: %v", name, m)
		}
	}
	if err := ar.Put(io.Discard, "a", 1e10, time.Unix(0, 0), strings.NewReader("")); !errors.Is(err, ar.ErrTooLarge) {
		t.Errorf("10 GB: %v", err)
	}
}
