// Package house runs the real service for a measurement.
package house

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// House is a service that runs.
type House struct {
	// Server is its address, Token that of its first person.
	Server, Token string
	cmd           *exec.Cmd
}

// Start runs a binary of the service on a data directory.
func Start(binary, data string) (*House, error) {
	cmd := exec.Command(binary, "serve", "-data", data, "-listen", "127.0.0.1:0", "-gateway", "127.0.0.1:0", "-log", "error")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	h := &House{cmd: cmd}
	said := make([]byte, 4096)
	n, err := out.Read(said)
	if err != nil {
		h.Stop()
		return nil, err
	}
	first, _, _ := strings.Cut(string(said[:n]), "\n")
	h.Server = first[strings.LastIndex(first, " ")+1:]
	go func() { _, _ = io.Copy(io.Discard, out) }()
	time.Sleep(time.Second) // the first second is busy with starting
	token, err := os.ReadFile(filepath.Join(data, "first-token"))
	if err != nil {
		h.Stop()
		return nil, err
	}
	h.Token = strings.TrimSpace(string(token))
	return h, nil
}

// Stop ends the service and waits for it.
func (h *House) Stop() {
	_ = h.cmd.Process.Signal(syscall.SIGTERM)
	_ = h.cmd.Wait()
}

// Memory is what the service occupies now, and the most that it ever did.
func (h *House) Memory() (now, most string) {
	return Memory(h.cmd.Process.Pid)
}

// Memory is what a process occupies now, and the most that it ever did.
func Memory(pid int) (now, most string) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return "unknown", "unknown"
	}
	value := func(key string) string {
		_, rest, _ := strings.Cut(string(b), key)
		line, _, _ := strings.Cut(rest, "\n")
		return strings.TrimSpace(line)
	}
	return value("VmRSS:"), value("VmHWM:")
}
