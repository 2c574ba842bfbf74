package trial_test

import (
	"fmt"

	"piedmont/internal/base/platform"
	"piedmont/internal/check/trial"
)

func ExampleEmulator() {
	name, why, _ := trial.Emulator(platform.Host())
	fmt.Println(name, why)
	// Output: this system
}
