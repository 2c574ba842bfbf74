//go:build !(linux || darwin || freebsd)

package preflight

import "errors"

func freeSpace(string) (uint64, error) { return 0, errors.ErrUnsupported }
