package sandbox

import (
	"errors"
	"io"
	"os"
	"os/signal"
	"sync"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// ErrNoTerminal says that an interactive shell was asked for without a
// terminal to run it on.
var ErrNoTerminal = errors.New("a shell needs a terminal, and standard input is none")

// relay connects the caller's terminal with a pseudo-terminal made for a
// shell, so that nothing in the sandbox ever holds the caller's own. Stop puts
// the caller's terminal back as it was.
type relay struct {
	// Shell is the end for the shell; the caller closes it once the shell has
	// been started.
	Shell *os.File

	caller, own *os.File
	before      *term.State
	done        chan struct{}
	wake        [2]int
	wait        sync.WaitGroup
}

func newRelay(caller *os.File) (*relay, error) {
	if !term.IsTerminal(int(caller.Fd())) {
		return nil, ErrNoTerminal
	}
	own, shell, err := pty.Open()
	if err != nil {
		return nil, err
	}
	r := &relay{Shell: shell, caller: caller, own: own, done: make(chan struct{})}
	if err := unix.Pipe2(r.wake[:], unix.O_CLOEXEC); err != nil {
		return nil, errors.Join(err, own.Close(), shell.Close())
	}
	if r.before, err = term.MakeRaw(int(caller.Fd())); err != nil {
		return nil, errors.Join(err, own.Close(), shell.Close())
	}
	resized := make(chan os.Signal, 1)
	signal.Notify(resized, unix.SIGWINCH)
	pty.InheritSize(caller, own)
	r.wait.Go(func() {
		defer signal.Stop(resized)
		for {
			select {
			case <-resized:
				pty.InheritSize(caller, own)
			case <-r.done:
				return
			}
		}
	})
	r.wait.Go(func() { io.Copy(caller, own) })
	r.wait.Go(r.input)
	return r, nil
}

// input carries what is typed to the shell, until Stop wakes it: a plain read
// of the terminal could not be interrupted, and would swallow the first thing
// that is typed afterwards.
func (r *relay) input() {
	buffer := make([]byte, 4096)
	poll := []unix.PollFd{{Fd: int32(r.caller.Fd()), Events: unix.POLLIN}, {Fd: int32(r.wake[0]), Events: unix.POLLIN}}
	for {
		if _, err := unix.Poll(poll, -1); err == unix.EINTR {
			continue
		} else if err != nil || poll[1].Revents != 0 {
			return
		}
		n, err := unix.Read(int(r.caller.Fd()), buffer)
		if n <= 0 || err != nil {
			return
		}
		if _, err := r.own.Write(buffer[:n]); err != nil {
			return
		}
	}
}

// Stop ends the relay after the shell has ended.
func (r *relay) Stop() error {
	close(r.done)
	unix.Close(r.wake[1])
	// With every shell end closed, the copy of its output ends by itself;
	// closing this end makes sure of it.
	err := r.own.Close()
	r.wait.Wait()
	unix.Close(r.wake[0])
	return errors.Join(err, term.Restore(int(r.caller.Fd()), r.before))
}
