package fileio

import (
	"errors"

	"golang.org/x/sys/unix"
)

func exchange(a, b string) error {
	return unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
}

// ignoreUnsupported drops the answer of file systems that cannot flush a folder.
func ignoreUnsupported(err error) error {
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOTSUP) {
		return nil
	}
	return err
}
