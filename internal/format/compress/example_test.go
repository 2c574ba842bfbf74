package compress_test

import (
	"bytes"
	"context"
	"fmt"
	"io"

	"piedmont/internal/format/compress"
)

func ExampleNewStream() {
	var out bytes.Buffer
	s, err := compress.NewStream(&out, "gz", compress.Options{Jobs: 2})
	if err == nil {
		_, err = s.File(context.Background(), compress.Text("ring"))
	}
	fmt.Println(err, s.Close())
	plain, name, end, err := compress.Decompress(&out)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer end()
	data, err := io.ReadAll(plain)
	fmt.Println(name, string(data), err)
	// Output:
	// <nil> <nil>
	// gz ring <nil>
}
