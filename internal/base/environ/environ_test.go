package environ_test

import (
	"fmt"
	"path/filepath"
	"slices"
	"testing"

	"piedmont/internal/base/environ"
)

func ExampleEnv() {
	e := environ.Env{"HUT=Karrenjoch", "HOME=/home/ines"}
	fmt.Println(e.Get("HUT"), e.With("HUT=Steinboden").Get("HUT"), e.Get("HUT"))
	// Output: Karrenjoch Steinboden Karrenjoch
}

func TestEnv(t *testing.T) {
	t.Setenv("PIEDMONT_TEST", "outside")
	var process environ.Env
	if process.Get("PIEDMONT_TEST") != "outside" || !slices.Contains(process.List(), "PIEDMONT_TEST=outside") {
		t.Error("the nil Env is not the process's")
	}
	own := process.With("PIEDMONT_TEST=inside")
	if own.Get("PIEDMONT_TEST") != "inside" || process.Get("PIEDMONT_TEST") != "outside" {
		t.Error("With reaches into the process")
	}
	if _, set := (environ.Env{}).Lookup("PIEDMONT_TEST"); set {
		t.Error("an empty Env has the process's variables")
	}
}

func TestFolders(t *testing.T) {
	home := t.TempDir()
	for _, c := range []struct {
		env  environ.Env
		want string
	}{
		{environ.Env{"HOME=" + home}, filepath.Join(home, ".cache", "piedmont")},
		{environ.Env{"HOME=" + home, "XDG_CACHE_HOME=" + home}, filepath.Join(home, "piedmont")},
	} {
		if got, err := c.env.Cache(); got != c.want || err != nil {
			t.Errorf("%v: %s, %v", c.env, got, err)
		}
	}
	if dir, err := (environ.Env{}).Cache(); err == nil {
		t.Errorf("without a home: %s", dir)
	}
	if got := (environ.Env{"HOME=/h"}).Home(); got != "/h" {
		t.Error(got)
	}
}
