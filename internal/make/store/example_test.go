package store_test

import (
	"context"
	"fmt"
	"os"

	"piedmont/internal/make/store"
)

func ExampleStore() {
	dir, _ := os.MkdirTemp("", "store-*")
	defer func() { _ = os.RemoveAll(dir) }()
	s, err := store.Open(dir)
	if err != nil {
		fmt.Println(err)
		return
	}
	w, err := s.Create("bell.txt")
	if err == nil {
		_, err = w.Write([]byte("ring"))
	}
	o, commitErr := w.Commit(context.Background())
	fmt.Println(o.Name, o.Size, err, commitErr, s.Remember("how it was made", []store.Object{o}))
	made, ok := s.Recall("how it was made")
	fmt.Println(made[0].SHA256 == o.SHA256, ok)
	// Output:
	// bell.txt 4 <nil> <nil> <nil>
	// true true
}
