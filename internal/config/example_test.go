package config_test

import (
	"fmt"

	"piedmont/internal/config"
)

// A kind brings a struct with its keys; the reader fills it, with the defaults that
// its tags say, and tells every fault with its place.
func ExampleParse() {
	type Bell struct {
		Name string
		Tone string `toml:"tone" default:"\"low\"" choice:"low high"`
	}
	tables := []config.Table{{Name: "bell", Named: true, Keys: func() any { return &Bell{} }}}
	d, err := config.Parse("piedmont.toml", []byte("[bell.hut]\n"), tables)
	fmt.Println(config.Named[Bell](d, "bell")[0].Tone, err)
	_, err = config.Parse("piedmont.toml", []byte("[bell.hut]\ntone = \"hihg\"\n"), tables)
	fmt.Println(err)
	// Output:
	// low <nil>
	// piedmont.toml:2:8: unknown tone "hihg"; did you mean "high"?
}
