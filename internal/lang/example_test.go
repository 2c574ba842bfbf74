package lang_test

import (
	"fmt"

	"piedmont/internal/lang"
)

func ExampleRunValues_Fill() {
	v := lang.RunValues{Stage: "/tmp/stage", Jobs: "4"}
	fmt.Println(v.Fill([]string{"make", "-j{jobs}", "install", "DESTDIR={stage}"}))
	// Output: [make -j4 install DESTDIR=/tmp/stage]
}
