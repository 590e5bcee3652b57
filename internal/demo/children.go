package demo

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// child is a process of ours: the service, or a model server.
type child struct {
	name string
	cmd  *exec.Cmd
	out  *bufio.Reader
	log  string
	done chan struct{}
	err  error
}

// startWithin is how long a child may take to say its address.
const startWithin = 20 * time.Second

// start runs this same program with other arguments as a process of its own. Its log
// goes to a file in logs.
func start(name, logs string, args ...string) (*child, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	log, err := os.Create(filepath.Join(logs, name+".log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	c := &child{name: name, cmd: exec.Command(self, args...), log: log.Name(), done: make(chan struct{})}
	c.cmd.Stderr = log
	c.cmd.SysProcAttr = apart()
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	c.cmd.Stdout = write
	c.out = bufio.NewReader(read)
	if err := launch(c.cmd); err != nil {
		return nil, fmt.Errorf("starting %s: %w", name, err)
	}
	_ = write.Close()
	go func() {
		c.err = c.cmd.Wait()
		close(c.done)
	}()
	return c, nil
}

// line reads what the child says next.
func (c *child) line(ctx context.Context) (string, error) {
	type said struct {
		text string
		err  error
	}
	ch := make(chan said, 1)
	go func() {
		text, err := c.out.ReadString('\n')
		ch <- said{strings.TrimSpace(text), err}
	}()
	select {
	case s := <-ch:
		if s.err != nil && !errors.Is(s.err, io.EOF) {
			return "", s.err
		}
		if s.err != nil {
			return "", fmt.Errorf("%s ended before it was ready: %s", c.name, c.lastWords())
		}
		return s.text, nil
	case <-time.After(startWithin):
		return "", fmt.Errorf("%s was not ready within %s", c.name, startWithin)
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// lastWords is the last line of the child's log.
func (c *child) lastWords() string {
	b, err := os.ReadFile(c.log)
	if err != nil {
		return "and its log cannot be read: " + err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return lines[len(lines)-1]
}

// stop asks the child to end and waits for it; one that does not is killed.
func (c *child) stop() {
	_ = c.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-c.done:
	case <-time.After(25 * time.Second):
		_ = c.cmd.Process.Kill()
		<-c.done
	}
}
