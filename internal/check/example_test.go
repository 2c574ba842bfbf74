package check_test

import (
	"context"
	"fmt"

	"piedmont/internal/check"
)

func ExampleRun() {
	lamp := check.Check{Name: "lamp", Run: func(context.Context, *check.Project) []check.Finding {
		return check.Stops("the lamp is out", "light it")
	}}
	found := check.Run(context.Background(), &check.Project{}, []check.Check{lamp})
	fmt.Println(check.Obstacles(found), found[0].Check, found[0].What, found[0].Mend)
	// Output: 1 lamp the lamp is out light it
}
