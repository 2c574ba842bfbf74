package place_test

import (
	"fmt"

	"piedmont/internal/project/version/place"
)

func ExamplePlace_Replace() {
	p, err := place.Parse("docs/install.md:/release ([0-9.]+) /")
	if err != nil {
		fmt.Println(err)
		return
	}
	changed, err := p.Replace([]byte("Fetch release 1.3.0 from the page."), "1.4.0")
	fmt.Println(string(changed), err)
	// Output: Fetch release 1.4.0 from the page. <nil>
}
