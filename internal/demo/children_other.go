//go:build !linux

package demo

import (
	"os/exec"
	"syscall"
)

// apart keeps Ctrl-C in the terminal from the children, so that the demo can stop them in
// order.
func apart() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

func launch(cmd *exec.Cmd) error { return cmd.Start() }
