package linuxpkg_test

import (
	"fmt"

	"piedmont/internal/linuxpkg"
	"piedmont/internal/linuxpkg/deb"
)

func ExampleParseRelation() {
	r, err := linuxpkg.ParseRelation("hutbell >= 1.4.0-rc.1")
	if err != nil {
		fmt.Println(err)
		return
	}
	text, err := deb.Format{}.Relation(r)
	fmt.Println(text, err)
	// Output: hutbell (>= 1.4.0~rc1) <nil>
}
