// Command bench measures Piedmont beside ordinary tools that do the same work,
// in the same run on the same machine, and prints ratios. It needs git, go,
// cc, make, gzip, zip, tar, xargs, sha256sum, curl, dpkg-deb
// and rpmbuild.
//
//	go run ./bench            all of it, about ten minutes
//	go run ./bench warm same  some of it
package main

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

// row is one line of the result.
type row struct{ what, piedmont, other, ratio, want string }

// bench is one run: its folder, the built piedmont, and what was found.
type bench struct {
	dir      string
	piedmont string
	rows     []row
}

var all = []struct {
	name string
	run  func(*bench) error
}{
	{"cold", (*bench).cold},
	{"warm", (*bench).warm},
	{"clone", (*bench).clone},
	{"packages", (*bench).packages},
	{"another", (*bench).another},
	{"same", (*bench).same},
	{"memory", (*bench).memory},
	{"upload", (*bench).upload},
	{"cut", (*bench).cut},
	{"ready", (*bench).ready},
	{"compile", (*bench).compile},
	{"examine", (*bench).examine},
	{"help", (*bench).help},
}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(names []string) error {
	dir, err := os.MkdirTemp("", "piedmont-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	b := &bench{dir: dir, piedmont: filepath.Join(dir, "piedmont")}
	build := exec.Command("go", "build", "-ldflags", "-s -w", "-o", b.piedmont, "./cmd/piedmont")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("build piedmont: %w\n%s", err, out)
	}
	for _, m := range all {
		if len(names) > 0 && !slices.Contains(names, m.name) {
			continue
		}
		fmt.Fprintln(os.Stderr, "measuring", m.name)
		if err := m.run(b); err != nil {
			return fmt.Errorf("%s: %w", m.name, err)
		}
	}
	fmt.Println("| what | Piedmont | beside it | ratio | asked |")
	fmt.Println("|---|---|---|---|---|")
	for _, r := range b.rows {
		fmt.Printf("| %s | %s | %s | %s | %s |\n", r.what, r.piedmont, r.other, r.ratio, r.want)
	}
	return nil
}

func (b *bench) add(what, piedmont, other, ratio, want string) {
	b.rows = append(b.rows, row{what, piedmont, other, ratio, want})
}

// usage is what a command took.
type usage struct {
	wall time.Duration
	cpu  time.Duration // of its children, too
	peak int64         // bytes of memory
}

// measure runs a command to its end in a folder.
func measure(dir string, env []string, name string, args ...string) (usage, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = io.Discard, &said
	start := time.Now()
	err := cmd.Run()
	u := usage{wall: time.Since(start)}
	if err != nil {
		return u, fmt.Errorf("%s %v: %w\n%s", name, args, err, said.String())
	}
	if r, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		u.peak = r.Maxrss << 10
		u.cpu = cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	}
	return u, nil
}

// beside measures work by hand and ours, each after a first time that fills the
// build cache; clear removes what ours would not make again.
func beside(hand, ours func() (usage, error), clear func() error) (byHand, took time.Duration, err error) {
	for _, first := range []func() (usage, error){hand, ours} {
		if _, err := first(); err != nil {
			return 0, 0, err
		}
	}
	if byHand, err = median(3, func() error { return nil }, hand); err != nil {
		return 0, 0, err
	}
	took, err = median(3, clear, ours)
	return byHand, took, err
}

// median repeats a measurement; before runs ahead of each, untimed.
func median(times int, before func() error, one func() (usage, error)) (time.Duration, error) {
	var all []time.Duration
	for range times {
		if err := before(); err != nil {
			return 0, err
		}
		u, err := one()
		if err != nil {
			return 0, err
		}
		all = append(all, u.wall)
	}
	return mid(all), nil
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.2f s", d.Seconds()) }

func ratio(a, b time.Duration) string { return fmt.Sprintf("%.2f", a.Seconds()/b.Seconds()) }

func removeAll(paths ...string) error {
	for _, p := range paths {
		if err := os.RemoveAll(p); err != nil {
			return err
		}
	}
	return nil
}
