package plan

import (
	_ "embed"

	"piedmont/internal/config"
)

//go:embed packing.md
var packingDocs string

// Packing are the keys of [packing].
type Packing struct {
	Effort string `toml:"effort" default:"\"normal\"" choice:"fast normal small"`
}

// PackingTable describes [packing].
func PackingTable() config.Table {
	return config.Table{Name: "packing", Keys: func() any { return &Packing{} }, Docs: []string{packingDocs}}
}

func packingOf(d *config.Document) *Packing {
	if p := config.One[Packing](d, "packing"); p != nil {
		return p
	}
	return &Packing{}
}
