package rpm

import (
	"fmt"
	"strings"

	"piedmont/internal/linuxpkg"
)

func helper(verb string, s linuxpkg.Scripts) string {
	if len(s.Units) == 0 {
		return ""
	}
	return fmt.Sprintf("if [ -x /usr/lib/systemd/systemd-update-helper ]; "+
		"then\n\t/usr/lib/systemd/systemd-update-helper %s %s || :\nfi\n",
		verb, strings.Join(s.Units, " "))
}

// Started has units enabled as the system's presets say.
func (Format) Started(s linuxpkg.Scripts, upgrade bool) string {
	if upgrade {
		return ""
	}
	return helper("install-system-units", s)
}

// Stopped stops and disables units before they are removed.
func (Format) Stopped(s linuxpkg.Scripts) string { return helper("remove-system-units", s) }

// restarted is what is done after an upgrade, when the old package has gone.
func restarted(s linuxpkg.Scripts) string { return helper("mark-restart-system-units", s) }
