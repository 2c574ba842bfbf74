package fault_test

import (
	"errors"
	"fmt"
	"io/fs"
	"testing"

	"piedmont/internal/base/fault"
)

func ExampleError() {
	err := fmt.Errorf("destination %q: %w", "page", fault.Misuse("the variable PAGE is not set",
		"Set it: export PAGE=…"))
	fmt.Println(err)
	fmt.Println("exit status", fault.Of(err))
	// Output:
	// destination "page": the variable PAGE is not set
	// Set it: export PAGE=…
	// exit status 2
}

func TestStatus(t *testing.T) {
	for _, c := range []struct {
		err  error
		want fault.Status
	}{
		{nil, fault.Done},
		{errors.New("x"), fault.Failed},
		{fault.New("x", ""), fault.Failed},
		{fault.Misuse("x", ""), fault.Usage},
		{fmt.Errorf("a: %w", errors.Join(errors.New("b"), &fault.Error{Status: fault.Trial})), fault.Trial},
	} {
		if got := fault.Of(c.err); got != c.want {
			t.Errorf("%v: %d, want %d", c.err, got, c.want)
		}
	}
	if err := (&fault.Error{What: "x", Err: fs.ErrNotExist}); !errors.Is(err, fs.ErrNotExist) {
		t.Error("the cause is not found")
	}
}

func TestParts(t *testing.T) {
	sentence, rest := fault.New("it is gone", "Bring it back"), fault.New("it is gone", "bring it back")
	for _, c := range []struct {
		err             error
		text, what, fix string
	}{
		{errors.New("x: y"), "x: y", "x: y", ""},
		{sentence, "it is gone\nBring it back", "it is gone", "Bring it back"},
		{rest, "it is gone: bring it back", "it is gone", "bring it back"},
		{fmt.Errorf("here: %w", sentence), "here: it is gone\nBring it back", "here: it is gone", "Bring it back"},
		{fmt.Errorf("here: %w", rest), "here: it is gone: bring it back", "here: it is gone", "bring it back"},
	} {
		if what, fix := fault.Parts(c.err); what != c.what || fix != c.fix || c.err.Error() != c.text {
			t.Errorf("%q gives %q and %q", c.err, what, fix)
		}
	}
}
