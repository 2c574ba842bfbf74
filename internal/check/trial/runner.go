package trial

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"golang.org/x/sys/cpu"

	"piedmont/internal/base/environ"
	"piedmont/internal/base/platform"
	"piedmont/internal/base/process"
	"piedmont/internal/format/exe"
)

// runner is a way to run programs of a platform here.
type runner struct {
	env     environ.Env // of this machine
	name    string
	before  []string // words before the program
	windows bool
	// prepare makes what it needs in the clean folder, and gives variables for it.
	prepare func(ctx context.Context, clean string) (env []string, end func(), err error)
	// lack tells what the runner itself does not have from a fault of the program.
	lack func(process.Result) (state, why string)
}

// qemuNames are the names of QEMU's user-mode emulators by architecture.
var qemuNames = map[string]string{
	"386": "i386", "amd64": "x86_64", "arm": "arm", "arm64": "aarch64", "riscv64": "riscv64",
	"ppc64le": "ppc64le", "ppc64": "ppc64",
	"s390x": "s390x", "mips": "mips", "mipsle": "mipsel", "mips64": "mips64", "mips64le": "mips64el",
	"loong64": "loongarch64",
}

// Emulator names what runs programs of a platform on this machine: "this
// system", an emulator, or "" with the reason, and what would bring one.
func Emulator(on platform.Platform) (name, why, mend string) {
	host := platform.Host()
	switch {
	case on.OS == host.OS && on.Arch == host.Arch:
		if why := lacksVariant(on); why != "" {
			return "", why, ""
		}
		return "this system", "", ""
	case on.OS == "windows" && host.OS == "linux":
		return wineFor(on)
	case on.OS == host.OS && on.OS == "linux" && qemuNames[on.Arch] != "":
		if path := qemu(on.Arch); path != "" {
			return "qemu-" + qemuNames[on.Arch], "", ""
		}
		if on.Arch == "386" && host.Arch == "amd64" {
			return "this system", "", ""
		}
		return "", "there is no emulator qemu-" + qemuNames[on.Arch] + " here", "apt-get install qemu-user-static"
	}
	return "", "nothing on this machine runs such programs", ""
}

// lacksVariant says that this processor has less than a variant asks for.
func lacksVariant(on platform.Platform) string {
	if on.Arch != "amd64" {
		return ""
	}
	has := map[string]bool{"v2": cpu.X86.HasSSE42 && cpu.X86.HasPOPCNT, "v3": cpu.X86.HasAVX2 &&
		cpu.X86.HasBMI2 && cpu.X86.HasFMA, "v4": cpu.X86.HasAVX512F && cpu.X86.HasAVX512VL}
	if ok, asked := has[on.Variant]; asked && !ok {
		return "this machine's processor does not have all of " + on.String()
	}
	return ""
}

func qemu(arch string) string {
	for _, name := range []string{"qemu-" + qemuNames[arch] + "-static", "qemu-" + qemuNames[arch]} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// runnerFor finds the way to run one program; why says that there is none.
func runnerFor(on platform.Platform, program string, o Options) (r runner, why string) {
	name, why, mend := Emulator(on)
	if why != "" {
		if mend != "" {
			why += " (" + mend + ")"
		}
		return r, why
	}
	info, err := examine(program)
	if err != nil && !errors.Is(err, exe.ErrNotBinary) {
		return r, fmt.Sprintf("%s is not there: %v", filepath.Base(program), err)
	}
	switch {
	case name == wineName:
		return wineRunner(o), ""
	case info == nil, name == "this system":
		return runner{name: "this system"}, "" // a script runs as the system runs scripts
	}
	if on.Arch == "386" && platform.Host().Arch == "amd64" {
		if _, err := os.Stat(info.Interpreter); info.Interpreter == "" || err == nil {
			return runner{name: "this system"}, ""
		}
	}
	words := []string{qemu(on.Arch)}
	if info.Interpreter != "" {
		root := ""
		if o.Sysroot != nil {
			root = o.Sysroot(on)
		}
		if _, err := os.Stat(filepath.Join(root, info.Interpreter)); root == "" || err != nil {
			return r, fmt.Sprintf("%s asks for the loader %s, and there is none for %s here (Debian's C "+
				"library for it brings one)", name, info.Interpreter, on)
		}
		words = append(words, "-L", root)
	}
	return runner{name: name, before: words, lack: qemuLack}, ""
}

func examine(path string) (*exe.Info, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, errors.Unwrap(err)
	}
	defer func() { _ = f.Close() }()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return exe.Examine(f, st.Size())
}

// qemuLack knows what the emulator says when a library of the target is not there.
func qemuLack(got process.Result) (state, why string) {
	for _, line := range strings.Split(got.Stderr, "\n") {
		if strings.Contains(line, "Could not open '/lib") {
			return NotTried, "the emulator has no loader for it: " + line
		}
		if strings.Contains(line, ": Function not implemented") && strings.HasPrefix(line, "qemu-") {
			return NotTried, "the emulator lacks something: " + line
		}
	}
	return "", ""
}
