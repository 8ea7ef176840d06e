package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"
	"time"
)

// None runs scripts as plain processes of the caller's, kept apart by nothing
// but their environment.
type None struct{}

// Isolation is "none".
func (None) Isolation() string { return "none" }

// OwnFileSystem reports that commands see the machine's.
func (None) OwnFileSystem() bool { return false }

// CanOverlay reports that there are no mounts.
func (None) CanOverlay() bool { return false }

// grace is how long processes may take to end when they are asked to.
const grace = 3 * time.Second

// Run starts the script in a process group of its own, so that all of it ends
// with the step, also when Ellwand is interrupted.
func (None) Run(ctx context.Context, c Command) (Usage, error) {
	var usage Usage
	shell, err := exec.LookPath("sh")
	if err != nil {
		return usage, err
	}
	at := filepath.Join(c.Files, c.Name+".line")
	file := filepath.Join(c.Files, c.Name)
	if err := os.WriteFile(file, []byte(instrument(c.Script, at)), 0o644); err != nil {
		return usage, err
	}
	if err := os.RemoveAll(at); err != nil {
		return usage, err
	}
	if c.Proxy != nil {
		l, err := net.Listen("tcp", ProxyAddress)
		if err != nil {
			return usage, err
		}
		done := make(chan struct{})
		go func() {
			defer close(done)
			c.Proxy(l)
		}()
		defer func() { l.Close(); <-done }()
	}
	cmd := exec.CommandContext(ctx, shell, "-eu", file)
	cmd.Dir, cmd.Env = c.Dir, c.Env
	cmd.Stdout, cmd.Stderr = c.Output, c.Output
	if c.Terminal != nil {
		return usage, interactive(exec.Command(shell, "-i"), c)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }
	cmd.WaitDelay = grace

	// The kernel sends Pdeathsig when the thread that started the child ends.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := cmd.Start(); err != nil {
		return usage, err
	}
	err = cmd.Wait()
	if cmd.ProcessState != nil {
		usage.CPU = cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
		if r, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
			usage.Memory = r.Maxrss * 1024
		}
	}
	// What a script leaves running does not outlive its step.
	syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	if ctx.Err() != nil {
		return usage, context.Cause(ctx)
	}
	if err == nil || errors.Is(err, exec.ErrWaitDelay) {
		return usage, nil
	}
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return usage, err
	}
	e := &ExitError{Status: exit.ExitCode()}
	if ws, ok := exit.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		e.Status, e.Signal = 128+int(ws.Signal()), ws.Signal().String()
	}
	if text, err := os.ReadFile(at); err == nil {
		e.Line, _ = strconv.Atoi(string(text))
	}
	return usage, e
}

// interactive runs a shell on a terminal of its own.
func interactive(cmd *exec.Cmd, c Command) error {
	terminal, err := newRelay(c.Terminal)
	if err != nil {
		return err
	}
	cmd.Dir, cmd.Env = c.Dir, c.Env
	cmd.Stdin, cmd.Stdout, cmd.Stderr = terminal.Shell, terminal.Shell, terminal.Shell
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	err = cmd.Start()
	terminal.Shell.Close()
	if err == nil {
		err = cmd.Wait()
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		err = nil // the status of whatever was typed last says nothing
	}
	return errors.Join(err, terminal.Stop())
}

// Call calls the function in this process.
func (None) Call(_ context.Context, _ Command, function string, arguments any) error {
	data, err := json.Marshal(arguments)
	if err != nil {
		return err
	}
	return functions[function](data)
}
