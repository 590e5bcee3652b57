package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"
)

// mark is the variable by which all processes of a replica are known: it holds their folder.
const mark = "INNERLADDER_RUNNER"

// Command is a program that serves a version in a folder that is held.
type Command struct {
	// Args are the program and its arguments; {port} is filled in.
	Args []string
	// Environment is added to that of this process.
	Environment []string
	// Listen is the address that it is told to take, if that is free.
	Listen string
	// Out is where it writes.
	Out io.Writer
}

// endWithin is how long a program may take to end when it is asked to.
const endWithin = 10 * time.Second

// Exec runs a program in a folder until it ends or ctx is done. It ends with this process, however that ends.
func Exec(ctx context.Context, folder *Folder, c Command) error {
	address, err := free(c.Listen)
	if err != nil {
		return err
	}
	_, port, _ := net.SplitHostPort(address)
	fill := func(list []string) []string {
		out := make([]string, len(list))
		for i, text := range list {
			out[i] = strings.ReplaceAll(text, "{port}", port)
		}
		return out
	}
	args := fill(c.Args)
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = append(os.Environ(), fill(c.Environment)...)
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = folder.dir, c.Out, c.Out, along()
	started, ended := make(chan error, 1), make(chan error, 1)
	go func() {
		// What ends with its parent ends with the thread that started it, so that thread stays.
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			ended <- cmd.Wait()
		}
	}()
	if err := <-started; err != nil {
		return errors.Join(fmt.Errorf("starting %s: %w", args[0], err), folder.Refuse(err.Error()))
	}
	if err := folder.Serving("http://" + address); err != nil {
		return errors.Join(err, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
	}
	select {
	case err := <-ended:
		return fmt.Errorf("%s ended: %w", args[0], errors.Join(err, errors.New(cmd.ProcessState.String())))
	case <-ctx.Done():
	}
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
	select {
	case <-ended:
	case <-time.After(endWithin):
	}
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // also what it has started and left
	return nil
}

// free finds an address that nobody listens at, that which is wanted if it is one.
func free(want string) (string, error) {
	l, err := net.Listen("tcp", want)
	if err != nil {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// endStrays ends what a replica that was killed has left behind.
func endStrays(dir string) {
	for _, pid := range family(dir) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}

// Folder is where the files of a version stand that a command line serves.
func (k *Keeper) Folder(id string) string { return filepath.Join(k.o.Dir, id, "files") }

// Commands reports whether command lines are run here.
func (k *Keeper) Commands() bool { return k.o.Commands }

// Unpack copies files, by their names, into the folder of a version, and writes others beside them.
func (k *Keeper) Unpack(id string, files map[string]string, texts map[string][]byte) error {
	folder := k.Folder(id)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	for name, file := range files {
		if err := copyFile(file, filepath.Join(folder, name)); err != nil {
			return fmt.Errorf("unpacking %s: %w", name, err)
		}
	}
	for name, text := range texts {
		if err := os.WriteFile(filepath.Join(folder, name), text, 0o600); err != nil {
			return fmt.Errorf("unpacking %s: %w", name, err)
		}
	}
	return nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// execArgs are the arguments by which a replica of a command line is started.
func (k *Keeper) execArgs(v Version, dir, listen string) []string {
	args := []string{
		"runner", "exec", "-keep", dir, "-service", k.alive(), "-away", k.o.Away.String(), "-listen", listen,
	}
	for _, e := range v.Environment {
		args = append(args, "-set", e)
	}
	return append(append(args, "--"), v.Command...)
}
