// Package house runs the real service for a measurement.
package house

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"innerladder/internal/client"
)

// House is a service that runs.
type House struct {
	// Server is its address, Token that of its first person.
	Server, Token string
	cmd           *exec.Cmd
}

// Start runs a binary of the service on a data directory.
func Start(binary, data string) (*House, error) {
	cmd := exec.Command(binary, "serve", "-data", data, "-listen", "127.0.0.1:0", "-gateway", "127.0.0.1:0", "-log",
		"error")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	h := &House{cmd: cmd}
	lines := make(chan string, 8)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			lines <- s.Text()[strings.LastIndex(s.Text(), " ")+1:]
		}
	}()
	h.Server = <-lines
	<-lines                 // the gateway
	time.Sleep(time.Second) // the first second is busy with starting
	link := ""
	select {
	case link = <-lines:
	default:
	}
	if h.Token, err = Token(data, link); err != nil {
		h.Stop()
		return nil, err
	}
	return h, nil
}

// Token is the first owner's token. With the link of a new service it is made and kept in
// the data directory; else it is the one that was kept.
func Token(data, link string) (string, error) {
	file := filepath.Join(data, "bench-token")
	if link == "" {
		b, err := os.ReadFile(file)
		return strings.TrimSpace(string(b)), err
	}
	t, err := client.ComeIn(context.Background(), link, "runa", "four words of nonsense", "bench", "")
	if err != nil {
		return "", err
	}
	return t.Secret, os.WriteFile(file, []byte(t.Secret+"\n"), 0o600)
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
