package process

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// isolated are the ways to start a program without a network: in a network
// namespace, made by the superuser or inside a user namespace.
func isolated() []way {
	return []way{{true, startInNamespace}, {true, startInUserNamespace}}
}

// startInNamespace makes a namespace for one thread, sets its loopback up, and
// starts the program from there. The thread ends with the goroutine.
func startInNamespace(cmd *exec.Cmd) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread is not used again
		err := unix.Unshare(unix.CLONE_NEWNET)
		if err == nil {
			_ = loopbackUp() // without it the program has even less network
			err = cmd.Start()
		}
		done <- err
	}()
	return <-done
}

func loopbackUp() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer func() { _ = unix.Close(fd) }()
	ifr, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	ifr.SetUint16(unix.IFF_UP)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, ifr)
}

func startInUserNamespace(cmd *exec.Cmd) error {
	cmd.SysProcAttr.Cloneflags = syscall.CLONE_NEWUSER | syscall.CLONE_NEWNET
	cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getuid(), HostID: os.Getuid(), Size: 1}}
	cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getgid(), HostID: os.Getgid(), Size: 1}}
	return cmd.Start()
}

// killMarked ends every process that carries the mark, also one that left its
// process group. New ones may appear while it looks, so it looks again.
func killMarked(mark string) {
	if mark == "" {
		return
	}
	needle := []byte("\x00" + MarkName + "=" + mark + "\x00")
	for range 10 {
		found := false
		environs, err := filepath.Glob("/proc/[0-9]*/environ")
		if err != nil {
			return
		}
		for _, path := range environs {
			data, err := os.ReadFile(path)
			if err != nil || !bytes.Contains(append([]byte{0}, data...), needle) {
				continue
			}
			pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path)))
			if err == nil && pid != os.Getpid() && syscall.Kill(pid, syscall.SIGKILL) == nil {
				found = true
			}
		}
		if !found {
			return
		}
	}
}
