package near_test

import (
	"fmt"

	"piedmont/internal/base/near"
)

func ExampleQuestion() {
	fmt.Println(near.Question("bundel", []string{"bundle", "source"}))
	// Output: did you mean "bundle"?
}
