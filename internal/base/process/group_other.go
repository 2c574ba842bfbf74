//go:build !unix

package process

import "os/exec"

func ownGroup(*exec.Cmd) {}

func stopGroup(cmd *exec.Cmd) error { return cmd.Process.Kill() }

func killGroup(*exec.Cmd) {}
