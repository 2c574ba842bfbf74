package httpx_test

import (
	"context"
	"errors"
	"fmt"
	"time"

	"piedmont/internal/base/httpx"
)

func ExampleRetry() {
	tries := 0
	patience := httpx.Patience{Tries: 3, First: time.Millisecond, Most: time.Millisecond}
	err := httpx.Retry(context.Background(), patience, func() (progress bool, err error) {
		if tries++; tries < 3 {
			return false, &httpx.TemporaryError{Err: errors.New("busy")}
		}
		return true, nil
	})
	fmt.Println(tries, err)
	// Output: 3 <nil>
}
