package secret_test

import (
	"context"
	"fmt"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/secret"
)

func ExampleFetch() {
	place, ok := secret.Parse("env:HUTBELL_PAGE_TOKEN")
	token, err := secret.Fetch(context.Background(), ".", environ.Env{"HUTBELL_PAGE_TOKEN=pdm_x"}, place)
	fmt.Println(place, ok, token, err)
	// Output: env:HUTBELL_PAGE_TOKEN true pdm_x <nil>
}
