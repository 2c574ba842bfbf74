module piedmont

go 1.26.0

require (
	github.com/Masterminds/semver/v3 v3.5.0
	github.com/agext/levenshtein v1.2.3
	github.com/pelletier/go-toml/v2 v2.4.3
	golang.org/x/sync v0.24.0
	golang.org/x/sys v0.49.0
)

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/bmatcuk/doublestar/v4 v4.10.4 // indirect
	github.com/cenkalti/backoff/v5 v5.0.3 // indirect
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/gofrs/flock v0.13.1 // indirect
	github.com/klauspost/compress v1.20.3 // indirect
	github.com/ulikunitz/xz v0.5.17 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
