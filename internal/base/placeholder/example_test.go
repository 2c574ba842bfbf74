package placeholder_test

import (
	"fmt"

	"piedmont/internal/base/placeholder"
)

func ExampleFill() {
	name, err := placeholder.Fill("{project}-{version}", placeholder.Values{"project": "hutbell", "version": "1.4.0"})
	fmt.Println(name, err)
	_, err = placeholder.Fill("{versoin}", placeholder.Values{"version": "1.4.0"})
	fmt.Println(err)
	// Output:
	// hutbell-1.4.0 <nil>
	// unknown placeholder {versoin}: here there are {version}
}
