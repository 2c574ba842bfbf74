package alpm

import (
	"fmt"
	"strings"

	"piedmont/internal/linuxpkg"
)

// CreateTmpFiles does nothing: pacman's hooks do it.
func (Format) CreateTmpFiles([]string) string { return "" }

// Started starts anew what ran before an upgrade; else that is left to the
// administrator.
func (Format) Started(s linuxpkg.Scripts, upgrade bool) string {
	if len(s.Units) == 0 || !upgrade {
		return ""
	}
	return fmt.Sprintf("if [ -d /run/systemd/system ]; then\n\tsystemctl try-restart %s || :\nfi\n",
		strings.Join(s.Units, " "))
}

// Stopped stops and disables units before they are removed.
func (Format) Stopped(s linuxpkg.Scripts) string {
	if len(s.Units) == 0 {
		return ""
	}
	return fmt.Sprintf("if [ -d /run/systemd/system ]; then\n\tsystemctl --quiet disable --now %s || :\nfi\n",
		strings.Join(s.Units, " "))
}
