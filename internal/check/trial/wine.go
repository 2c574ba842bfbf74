package trial

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/process"
	"piedmont/internal/base/progress"
	"piedmont/internal/format/exe"
)

const wineName = "Wine"

// wineFor says whether Wine here runs programs of a Windows platform.
func wineFor(on platform.Platform) (name, why, mend string) {
	const install = "apt-get install wine wine64"
	switch on.Arch {
	case "amd64":
		if wine() == "" {
			return "", "there is no Wine here", install
		}
		return wineName, "", ""
	case "386":
		for _, pattern := range []string{"/usr/lib/i386-linux-gnu/wine/*/ntdll.*",
			"/usr/lib/wine/i386-unix/ntdll.so", "/opt/wine*/lib/wine/i386-unix/ntdll.so"} {
			if found, _ := filepath.Glob(pattern); len(found) > 0 && wine() != "" {
				return wineName, "", ""
			}
		}
		return "", "there is no Wine for 32-bit programs here",
			"dpkg --add-architecture i386, then apt-get install wine32"
	}
	return "", fmt.Sprintf("Wine here does not run programs for %s", on), ""
}

func wine() string {
	for _, name := range []string{"wine64", "wine", "/usr/lib/wine/wine64"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

func wineRunner(o Options) runner {
	return runner{name: wineName, before: []string{wine()}, windows: true, lack: wineLack,
		prepare: func(ctx context.Context, clean string) ([]string, func(), error) {
			template, err := winePrefix(ctx, o)
			if err != nil {
				return nil, nil, err
			}
			prefix := filepath.Join(clean, "wine")
			if err := copyTree(template, prefix); err != nil {
				return nil, nil, fmt.Errorf("copy the prepared Wine folder: %w", err)
			}
			env := wineEnv(prefix)
			return env, func() { endWine(prefix, clean) }, nil
		}}
}

// wineEnv keeps Wine silent but for libraries that it does not find.
func wineEnv(prefix string) []string {
	return []string{"WINEPREFIX=" + prefix, "WINEDEBUG=-all,err+module", "WINEDLLOVERRIDES=mscoree,mshtml=",
		"WINEARCH=win64"}
}

// endWine ends the server that Wine leaves running for a while.
func endWine(prefix, home string) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	server, err := exec.LookPath("wineserver")
	if err != nil {
		server = "/usr/lib/wine/wineserver64"
	}
	_, _, _ = process.Run(ctx, process.Command{Name: server, Args: []string{"-k"},
		Env: append(wineEnv(prefix), "HOME="+home, "PATH="+cleanPath(nil))})
}

// winePrefix gives a folder that Wine has set up: that of the variable
// WINEPREFIX, else one that is prepared once for all projects. The first start
// of Wine takes much longer than copying what it made.
func winePrefix(ctx context.Context, o Options) (string, error) {
	cache := o.Cache
	if own := o.Env.Get("WINEPREFIX"); own != "" {
		if _, err := os.Stat(filepath.Join(own, "system.reg")); err != nil {
			return "", fmt.Errorf("WINEPREFIX names %s, which is no folder that Wine has set up", own)
		}
		return own, nil
	}
	info, err := os.Stat(wine())
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %d %d", wine(), info.Size(), info.ModTime().UnixNano()))
	dir := filepath.Join(cache, "wine-"+hex.EncodeToString(sum[:6]))
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return "", err
	}
	l := flock.New(dir + ".lock")
	if _, err := l.TryLockContext(ctx, 100*time.Millisecond); err != nil {
		return "", err
	}
	defer func() { _ = l.Unlock() }()
	if _, err := os.Stat(dir); err == nil {
		return dir, nil // another run prepared it while this one waited
	}
	o.Events.Event(progress.Note{Text: "preparing a folder for Wine; that takes a while and is done once"})
	tmp, err := os.MkdirTemp(cache, "wine-new-")
	if err != nil {
		return "", err
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	if err := setUpWine(ctx, tmp); err != nil {
		return "", err
	}
	return dir, os.Rename(filepath.Join(tmp, "prefix"), dir)
}

func setUpWine(ctx context.Context, tmp string) error {
	prefix := filepath.Join(tmp, "prefix")
	limited, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	env := append(wineEnv(prefix), "HOME="+tmp, "PATH="+cleanPath(nil), "LC_ALL=C.UTF-8")
	_, said, err := process.Run(limited, process.Command{Name: wine(), Args: []string{"wineboot", "--init"},
		Env: env, Dir: tmp})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	endServer(limited, env)
	if _, statErr := os.Stat(filepath.Join(prefix, "system.reg")); statErr != nil {
		return fmt.Errorf("the Wine of this machine does not set itself up: %w: %s", errors.Join(err, statErr),
			lastLine(said))
	}
	return nil
}

// endServer waits until Wine has written everything.
func endServer(ctx context.Context, env []string) {
	server, err := exec.LookPath("wineserver")
	if err != nil {
		server = "/usr/lib/wine/wineserver64"
	}
	_, _, _ = process.Run(ctx, process.Command{Name: server, Args: []string{"-w"}, Env: env})
}

var (
	missingImport = regexp.MustCompile(`err:module:import_dll Library (\S+) \(which is needed by`)
	missingLoad   = regexp.MustCompile(`(?m)(\S+\.dll) not found`)
)

// wineLack finds out which library was missing. One that belongs to Windows is
// a lack of Wine; any other should have been in the archive.
func wineLack(got process.Result) (state, why string) {
	if got.Err == nil {
		return "", ""
	}
	name := ""
	if m := missingImport.FindStringSubmatch(got.Stderr); m != nil {
		name = m[1]
	} else if m := missingLoad.FindStringSubmatch(got.Stderr); m != nil {
		name = m[1] // as Go's runtime says it
	}
	switch {
	case name != "" && exe.OfWindows(name):
		return NotTried, fmt.Sprintf("Wine here has no %s, which is a part of Windows", name)
	case name != "":
		return Failed, fmt.Sprintf("it needs %s, which is neither a part of Windows nor beside it in the archive", name)
	case strings.Contains(got.Stderr, "could not load kernel32.dll"):
		return NotTried, "Wine does not work here: it could not load kernel32.dll"
	}
	return "", ""
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}

// copyTree copies a prepared folder with its links as they are.
func copyTree(from, to string) error {
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		switch {
		case d.IsDir():
			return os.MkdirAll(target, 0o755)
		case d.Type()&fs.ModeSymlink != 0:
			link, err := os.Readlink(path)
			if err != nil {
				return err
			}
			return os.Symlink(link, target)
		case d.Type().IsRegular():
			// Wine's own libraries are most of it, and nobody writes into them.
			if strings.HasPrefix(filepath.ToSlash(rel), "drive_c/windows/") && filepath.Ext(rel) != ".ini" &&
				os.Link(path, target) == nil {
				return nil
			}
			data, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			return os.WriteFile(target, data, 0o755)
		}
		return nil
	})
}
