package work_test

import (
	"fmt"

	"piedmont/internal/make/work"
	"piedmont/internal/release"
)

func ExampleWaits() {
	entries := []release.Entry{{From: release.Origin{Build: "compile linux/arm64"}},
		{From: release.Origin{Path: "LICENSE"}}}
	fmt.Println(work.Waits(entries), work.Packed("bell.zip"))
	// Output: [examine compile linux/arm64] pack bell.zip
}
