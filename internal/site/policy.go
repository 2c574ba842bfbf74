package site

import (
	"crypto/sha256"
	"encoding/base64"
)

// SecurityPolicy allows a page nothing but its own style and script.
var SecurityPolicy = policy()

func policy() string {
	allowed := func(name string) string {
		data, err := files.ReadFile("templates/" + name)
		if err != nil {
			panic(err) // the files are part of the program
		}
		sum := sha256.Sum256(data)
		return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
	}
	return "default-src 'none'; img-src 'self'; style-src " + allowed("style.css") + "; script-src " +
		allowed("script.js") + "; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
}
