package demo

import (
	"os/exec"
	"runtime"
	"syscall"
)

// apart keeps Ctrl-C in the terminal from the children, so that the demo can stop them in
// order, and has them end with the demo, however it ends.
func apart() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
}

// launch starts a command from a thread that lives as long as the demo: the signal that
// apart asks for is sent when that thread ends.
func launch(cmd *exec.Cmd) error {
	result := make(chan error)
	launcher <- func() { result <- cmd.Start() }
	return <-result
}

var launcher = func() chan<- func() {
	work := make(chan func())
	go func() {
		runtime.LockOSThread()
		for f := range work {
			f()
		}
	}()
	return work
}()
