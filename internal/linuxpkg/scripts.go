package linuxpkg

import (
	"fmt"
	"strings"
)

// Scripts are what a package does beside laying out files.
type Scripts struct {
	// The project's own, as POSIX shell. Whatever the format, their first argument
	// is install, upgrade or remove; before-install and after-install run for
	// the first two, before-remove and after-remove for the last only.
	BeforeInstall, AfterInstall, BeforeRemove, AfterRemove string

	Users    []User
	Units    []string // systemd units
	Services []string // OpenRC scripts
	TmpFiles []string // files in tmpfiles.d
	// Owned are what does not get its owner from the package: pacman keeps no
	// names, and dpkg asks for them before accounts may be there.
	Owned []Owned
}

// Owned is a folder or file that belongs to somebody else than root.
type Owned struct {
	Path, Mode, Owner, Group string
	Dir                      bool
}

// User is an account for a service.
type User struct{ Name, Group, Home, Comment string }

// Moments at which formats run scripts.
const (
	BeforeInstall = "before-install"
	AfterInstall  = "after-install"
	BeforeUpgrade = "before-upgrade"
	AfterUpgrade  = "after-upgrade"
	BeforeRemove  = "before-remove"
	AfterRemove   = "after-remove"
)

// At gives what is done at a moment, without a first line; "" is nothing.
func (s Scripts) At(format, moment string) string {
	var b strings.Builder
	own := func(text, event string) {
		if text != "" {
			// A function keeps an exit of the script from ending what follows.
			fmt.Fprintf(&b, "(\nset -- %s\n%s\n)\n", event, strings.TrimRight(body(text), "\n"))
		}
	}
	switch moment {
	case BeforeInstall, BeforeUpgrade:
		for _, u := range s.Users {
			b.WriteString(u.create(format))
		}
		own(s.BeforeInstall, strings.TrimPrefix(moment, "before-"))
	case AfterInstall, AfterUpgrade:
		for _, o := range s.Owned {
			switch {
			case format == Deb:
				fmt.Fprintf(&b, "if ! dpkg-statoverride --list '%[3]s' >/dev/null 2>&1; then\n\tchown %[1]s:%[2]s '%[3]s'\nfi\n", o.Owner, o.Group, o.Path)
			case o.Dir:
				fmt.Fprintf(&b, "mkdir -p '%[4]s'\nchown %[2]s:%[3]s '%[4]s'\nchmod %[1]s '%[4]s'\n", o.Mode, o.Owner, o.Group, o.Path)
			default:
				fmt.Fprintf(&b, "chown %s:%s '%s'\n", o.Owner, o.Group, o.Path)
			}
		}
		b.WriteString(s.tmpFiles(format))
		b.WriteString(s.started(format, moment == AfterUpgrade))
		own(s.AfterInstall, strings.TrimPrefix(moment, "after-"))
	case BeforeRemove:
		own(s.BeforeRemove, "remove")
		b.WriteString(s.stopped(format))
	case AfterRemove:
		own(s.AfterRemove, "remove")
		b.WriteString(s.gone(format))
	}
	return b.String()
}

// body is a script without its first line.
func body(text string) string {
	if strings.HasPrefix(text, "#!") {
		_, text, _ = strings.Cut(text, "\n")
	}
	return text
}

// CheckScript says why a script cannot be used: the formats put it into scripts
// of their own, which are POSIX shell.
func CheckScript(text string) error {
	line, _, _ := strings.Cut(text, "\n")
	if rest, ok := strings.CutPrefix(line, "#!"); ok {
		if f := strings.Fields(rest); len(f) == 0 || f[0] != "/bin/sh" {
			return fmt.Errorf("it begins with %q: write it for /bin/sh, which every distribution runs such scripts with", line)
		}
	}
	return nil
}

func (u User) create(format string) string {
	comment := strings.NewReplacer("'", "", ":", "", "\n", " ").Replace(u.Comment)
	home := u.Home
	if home == "" {
		home = "/nonexistent"
	}
	if format == APK {
		return fmt.Sprintf("addgroup -S %[2]s 2>/dev/null || true\nadduser -S -D -H -h %[3]s -s /sbin/nologin -G %[2]s -g '%[4]s' %[1]s 2>/dev/null || true\n", u.Name, u.Group, home, comment)
	}
	return fmt.Sprintf("groupadd --force --system %[2]s\nif ! id -u %[1]s >/dev/null 2>&1; then\n\tuseradd --system --gid %[2]s --home-dir %[3]s --no-create-home --shell /usr/sbin/nologin --comment '%[4]s' %[1]s\nfi\n", u.Name, u.Group, home, comment)
}

func (s Scripts) tmpFiles(format string) string {
	if len(s.TmpFiles) == 0 || format == APK || format == Arch { // pacman's hooks do it
		return ""
	}
	return fmt.Sprintf("if command -v systemd-tmpfiles >/dev/null 2>&1; then\n\tsystemd-tmpfiles --create %s || true\nfi\n", strings.Join(s.TmpFiles, " "))
}

// started enables and starts services as each distribution does for packages:
// Debian starts them, rpm follows presets, Arch and Alpine leave it to the
// administrator. After an upgrade, what ran is started anew.
func (s Scripts) started(format string, upgrade bool) string {
	units := strings.Join(s.Units, " ")
	var b strings.Builder
	switch {
	case format == APK && upgrade:
		for _, name := range s.Services {
			fmt.Fprintf(&b, "if command -v rc-service >/dev/null 2>&1; then\n\trc-service --quiet --ifstarted %s restart || true\nfi\n", name)
		}
	case units == "" || format == APK:
	case format == Deb:
		for _, u := range s.Units {
			fmt.Fprintf(&b, `if command -v deb-systemd-helper >/dev/null 2>&1; then
	deb-systemd-helper unmask %[1]s >/dev/null || true
	if deb-systemd-helper --quiet was-enabled %[1]s; then
		deb-systemd-helper enable %[1]s >/dev/null || true
	else
		deb-systemd-helper update-state %[1]s >/dev/null || true
	fi
fi
`, u)
		}
		action := "start"
		if upgrade {
			action = "restart"
		}
		fmt.Fprintf(&b, "if [ -d /run/systemd/system ]; then\n\tsystemctl --system daemon-reload >/dev/null || true\n\tdeb-systemd-invoke %s %s >/dev/null || true\nfi\n", action, units)
	case format == RPM && !upgrade:
		fmt.Fprintf(&b, "if [ -x /usr/lib/systemd/systemd-update-helper ]; then\n\t/usr/lib/systemd/systemd-update-helper install-system-units %s || :\nfi\n", units)
	case format == Arch && upgrade:
		fmt.Fprintf(&b, "if [ -d /run/systemd/system ]; then\n\tsystemctl try-restart %s || :\nfi\n", units)
	}
	return b.String()
}

func (s Scripts) stopped(format string) string {
	units := strings.Join(s.Units, " ")
	var b strings.Builder
	switch {
	case format == APK:
		for _, name := range s.Services {
			fmt.Fprintf(&b, "if command -v rc-service >/dev/null 2>&1; then\n\trc-service --quiet --ifstarted %[1]s stop || true\n\trc-update --quiet delete %[1]s 2>/dev/null || true\nfi\n", name)
		}
	case units == "":
	case format == Deb:
		fmt.Fprintf(&b, "if [ -d /run/systemd/system ]; then\n\tdeb-systemd-invoke stop %s >/dev/null || true\nfi\n", units)
	case format == RPM:
		fmt.Fprintf(&b, "if [ -x /usr/lib/systemd/systemd-update-helper ]; then\n\t/usr/lib/systemd/systemd-update-helper remove-system-units %s || :\nfi\n", units)
	case format == Arch:
		fmt.Fprintf(&b, "if [ -d /run/systemd/system ]; then\n\tsystemctl --quiet disable --now %s || :\nfi\n", units)
	}
	return b.String()
}

func (s Scripts) gone(format string) string {
	if len(s.Units) == 0 || format != Deb {
		return ""
	}
	return "if [ -d /run/systemd/system ]; then\n\tsystemctl --system daemon-reload >/dev/null || true\nfi\n"
}

// Restarted is what rpm does after an upgrade, when the old package has gone.
func (s Scripts) Restarted() string {
	if len(s.Units) == 0 {
		return ""
	}
	return fmt.Sprintf("if [ -x /usr/lib/systemd/systemd-update-helper ]; then\n\t/usr/lib/systemd/systemd-update-helper mark-restart-system-units %s || :\nfi\n", strings.Join(s.Units, " "))
}
