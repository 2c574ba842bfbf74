// Package preflight has the checks of what belongs to no other package: the
// repository, the version, the files that are packed, and the room on the disk.
package preflight
