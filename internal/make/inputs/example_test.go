package inputs_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"piedmont/internal/make/inputs"
)

func ExampleInputs() {
	dir, _ := os.MkdirTemp("", "inputs-*")
	defer func() { _ = os.RemoveAll(dir) }()
	file := filepath.Join(dir, "bell.txt")
	_ = os.WriteFile(file, []byte("ring"), 0o644)
	in := inputs.New(filepath.Join(dir, "memo.json"))
	sum, size, err := in.File(context.Background(), file)
	fmt.Println(sum[:8], size, err, in.Save())
	// Output: 16b97458 4 <nil> <nil>
}
