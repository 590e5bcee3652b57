package runner

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// apart makes a process that goes on when the service ends, and that keys pressed in its terminal do not reach.
func apart() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

// along makes a process that ends with the one that started it, and is the first of a group of its own.
func along() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}

// family lists the processes that a replica has started, and what those have, by what stands in their environment.
func family(dir string) (pids []int) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		environment, err := os.ReadFile(filepath.Join("/proc", e.Name(), "environ"))
		if err == nil && bytes.Contains(append([]byte{0}, environment...), []byte("\x00"+mark+"="+dir+"\x00")) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// ticks is how many ticks of processor time make a second; it is the same on every Linux.
const ticks = 100

// usage reads what a process uses; ours is false when the process does not keep the folder.
func usage(pid int, dir string) (u used, ours bool) {
	proc := filepath.Join("/proc", strconv.Itoa(pid))
	line, err := os.ReadFile(filepath.Join(proc, "cmdline"))
	if err != nil || !bytes.Contains(append(line, 0), append([]byte(dir), 0)) {
		return u, false
	}
	if u, err = usedBy(proc); err != nil {
		return u, false
	}
	limits, _ := os.ReadFile(filepath.Join(proc, "limits"))
	for line := range strings.Lines(string(limits)) {
		if rest, found := strings.CutPrefix(line, "Max open files"); found {
			_, _ = fmt.Sscan(rest, &u.mostFiles)
		}
	}
	return u, true
}

// withFamily adds what those use that a process has started.
func (u used) withFamily(pid int, dir string) used {
	for _, other := range family(dir) {
		if other == pid {
			continue
		}
		if more, err := usedBy(filepath.Join("/proc", strconv.Itoa(other))); err == nil {
			u.cpu, u.memory, u.files = u.cpu+more.cpu, u.memory+more.memory, u.files+more.files
		}
	}
	return u
}

// usedBy reads what one process uses.
func usedBy(proc string) (u used, err error) {
	stat, err := os.ReadFile(filepath.Join(proc, "stat"))
	if err != nil {
		return u, err
	}
	// The name of the process stands in brackets and may hold anything.
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	if len(fields) > 12 {
		user, _ := strconv.ParseInt(fields[11], 10, 64)
		system, _ := strconv.ParseInt(fields[12], 10, 64)
		u.cpu = time.Duration(user+system) * time.Second / ticks
	}
	status, _ := os.ReadFile(filepath.Join(proc, "status"))
	u.memory = kilobytes(status, "VmRSS:")
	if files, err := os.ReadDir(filepath.Join(proc, "fd")); err == nil {
		u.files = len(files)
	}
	return u, nil
}

// kilobytes finds a line of a status file, in bytes.
func kilobytes(status []byte, name string) int64 {
	for line := range strings.Lines(string(status)) {
		if rest, found := strings.CutPrefix(line, name); found {
			n, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return n << 10
		}
	}
	return 0
}

// memoryLimit is how much memory processes may use here: what the control group allows, else what the machine has.
func memoryLimit() int64 {
	if b, err := os.ReadFile("/sys/fs/cgroup/memory.max"); err == nil {
		if n, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64); err == nil {
			return n
		}
	}
	b, _ := os.ReadFile("/proc/meminfo")
	return kilobytes(b, "MemTotal:")
}
