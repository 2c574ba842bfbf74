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

// Shell is what a format's systems do for a package in its scripts, as POSIX
// shell; "" is nothing.
type Shell interface {
	CreateUser(u User) string
	Own(o Owned) string
	CreateTmpFiles(files []string) string
	// Started enables and starts services; after an upgrade, starts what ran anew.
	Started(s Scripts, upgrade bool) string
	Stopped(s Scripts) string
	Gone(s Scripts) string
}

// CommonShell is what systems with the usual tools do. A format embeds it and
// does otherwise what it must.
type CommonShell struct{}

// CreateUser makes an account that is not there yet.
func (CommonShell) CreateUser(u User) string {
	return fmt.Sprintf("groupadd --force --system %[2]s\nif ! id -u %[1]s >/dev/null 2>&1; then\n"+
		"\tuseradd --system --gid %[2]s --home-dir %[3]s --no-create-home --shell /usr/sbin/nologin "+
		"--comment '%[4]s' %[1]s\nfi\n",
		u.Name, u.Group, u.HomeOrNone(), u.PlainComment())
}

// Own gives a file or folder to its owner; a folder is made first.
func (CommonShell) Own(o Owned) string {
	if o.Dir {
		return fmt.Sprintf("mkdir -p '%[4]s'\nchown %[2]s:%[3]s '%[4]s'\nchmod %[1]s '%[4]s'\n", o.Mode,
			o.Owner, o.Group, o.Path)
	}
	return fmt.Sprintf("chown %s:%s '%s'\n", o.Owner, o.Group, o.Path)
}

// CreateTmpFiles has systemd make what tmpfiles.d describes.
func (CommonShell) CreateTmpFiles(files []string) string {
	return fmt.Sprintf("if command -v systemd-tmpfiles >/dev/null 2>&1; then\n\tsystemd-tmpfiles --create "+
		"%s || true\nfi\n", strings.Join(files, " "))
}

// Started does nothing.
func (CommonShell) Started(Scripts, bool) string { return "" }

// Stopped does nothing.
func (CommonShell) Stopped(Scripts) string { return "" }

// Gone does nothing.
func (CommonShell) Gone(Scripts) string { return "" }

// HomeOrNone is the account's home, or the place that stands for none.
func (u User) HomeOrNone() string {
	if u.Home == "" {
		return "/nonexistent"
	}
	return u.Home
}

// PlainComment is the comment without what would end a quote or a field.
func (u User) PlainComment() string {
	return strings.NewReplacer("'", "", ":", "", "\n", " ").Replace(u.Comment)
}

// At gives what is done at a moment, without a first line; "" is nothing.
func (s Scripts) At(sh Shell, moment string) string {
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
			b.WriteString(sh.CreateUser(u))
		}
		own(s.BeforeInstall, strings.TrimPrefix(moment, "before-"))
	case AfterInstall, AfterUpgrade:
		for _, o := range s.Owned {
			b.WriteString(sh.Own(o))
		}
		if len(s.TmpFiles) > 0 {
			b.WriteString(sh.CreateTmpFiles(s.TmpFiles))
		}
		b.WriteString(sh.Started(s, moment == AfterUpgrade))
		own(s.AfterInstall, strings.TrimPrefix(moment, "after-"))
	case BeforeRemove:
		own(s.BeforeRemove, "remove")
		b.WriteString(sh.Stopped(s))
	case AfterRemove:
		own(s.AfterRemove, "remove")
		b.WriteString(sh.Gone(s))
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
			return fmt.Errorf("it begins with %q: write it for /bin/sh, which every distribution runs such "+
				"scripts with", line)
		}
	}
	return nil
}
