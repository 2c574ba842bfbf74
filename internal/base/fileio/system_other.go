//go:build !linux

package fileio

import "errors"

func exchange(_, _ string) error { return errors.ErrUnsupported }

// ignoreUnsupported drops every error: flushing a folder is not offered by all
// of these systems, and their rename is durable without it.
func ignoreUnsupported(error) error { return nil }
