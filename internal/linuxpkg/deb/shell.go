package deb

import (
	"fmt"
	"strings"

	"piedmont/internal/linuxpkg"
)

// Own gives a file to its owner, unless an administrator decided otherwise.
func (Format) Own(o linuxpkg.Owned) string {
	return fmt.Sprintf("if ! dpkg-statoverride --list '%[3]s' >/dev/null 2>&1; then\n\tchown %[1]s:%[2]s "+
		"'%[3]s'\nfi\n", o.Owner, o.Group, o.Path)
}

const enable = `if command -v deb-systemd-helper >/dev/null 2>&1; then
	deb-systemd-helper unmask %[1]s >/dev/null || true
	if deb-systemd-helper --quiet was-enabled %[1]s; then
		deb-systemd-helper enable %[1]s >/dev/null || true
	else
		deb-systemd-helper update-state %[1]s >/dev/null || true
	fi
fi
`

// Started enables and starts units, as Debian does for packages.
func (Format) Started(s linuxpkg.Scripts, upgrade bool) string {
	if len(s.Units) == 0 {
		return ""
	}
	var b strings.Builder
	for _, u := range s.Units {
		fmt.Fprintf(&b, enable, u)
	}
	action := "start"
	if upgrade {
		action = "restart"
	}
	fmt.Fprintf(&b, "if [ -d /run/systemd/system ]; then\n\tsystemctl --system daemon-reload >/dev/null || true\n"+
		"\tdeb-systemd-invoke %s %s >/dev/null || true\nfi\n", action, strings.Join(s.Units, " "))
	return b.String()
}

// Stopped stops units before they are removed.
func (Format) Stopped(s linuxpkg.Scripts) string {
	if len(s.Units) == 0 {
		return ""
	}
	return fmt.Sprintf("if [ -d /run/systemd/system ]; then\n\tdeb-systemd-invoke stop %s >/dev/null || "+
		"true\nfi\n", strings.Join(s.Units, " "))
}

// Gone has systemd notice that units are gone.
func (Format) Gone(s linuxpkg.Scripts) string {
	if len(s.Units) == 0 {
		return ""
	}
	return "if [ -d /run/systemd/system ]; then\n\tsystemctl --system daemon-reload >/dev/null || true\nfi\n"
}
