package process_test

import (
	"context"
	"fmt"
	"strings"

	"piedmont/internal/base/process"
)

// A program gets the environment that it is given, and its group ends with it.
func ExampleRun() {
	out, _, err := process.Run(context.Background(), process.Command{Dir: ".", Env: []string{"TONE=low"},
		Name: "sh", Args: []string{"-c", "echo $TONE"}})
	fmt.Println(strings.TrimSpace(out), err)
	// Output: low <nil>
}
