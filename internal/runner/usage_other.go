//go:build !linux

package runner

import "syscall"

func apart() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

// usage is not read on other systems than Linux; the lock alone says whose the process is.
func usage(int, string) (used, bool) { return used{}, true }

func memoryLimit() int64 { return 0 }

func along() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

func family(string) []int { return nil }

func (u used) withFamily(int, string) used { return u }
