package apk

import (
	"fmt"
	"strings"

	"piedmont/internal/linuxpkg"
)

// CreateUser makes an account with busybox's tools.
func (Format) CreateUser(u linuxpkg.User) string {
	return fmt.Sprintf("addgroup -S %[2]s 2>/dev/null || true\nadduser -S -D -H -h %[3]s -s /sbin/nologin "+
		"-G %[2]s -g '%[4]s' %[1]s 2>/dev/null || true\n",
		u.Name, u.Group, u.HomeOrNone(), u.PlainComment())
}

// CreateTmpFiles does nothing: Alpine has no systemd.
func (Format) CreateTmpFiles([]string) string { return "" }

// Started starts anew what ran before an upgrade; else that is left to the
// administrator.
func (Format) Started(s linuxpkg.Scripts, upgrade bool) string {
	if !upgrade {
		return ""
	}
	var b strings.Builder
	for _, service := range s.Services {
		fmt.Fprintf(&b, "if command -v rc-service >/dev/null 2>&1; then\n\trc-service --quiet --ifstarted "+
			"%s restart || true\nfi\n", service)
	}
	return b.String()
}

// Stopped stops services and takes them out of the runlevels.
func (Format) Stopped(s linuxpkg.Scripts) string {
	var b strings.Builder
	for _, service := range s.Services {
		fmt.Fprintf(&b, "if command -v rc-service >/dev/null 2>&1; then\n\trc-service --quiet --ifstarted "+
			"%[1]s stop || true\n"+
			"\trc-update --quiet delete %[1]s 2>/dev/null || true\nfi\n", service)
	}
	return b.String()
}
