package cli

import (
	"context"
	"errors"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"
)

// patience is how long a command may take to end after the first signal.
const patience = 800 * time.Millisecond

// errInterrupted is why the context of an interrupted command has ended.
var errInterrupted = errors.New("interrupted")

// interruptible returns a context that ends at the first SIGINT or SIGTERM. A
// command that has not ended soon after, or gets a second signal, is ended by
// abort wherever it is: nothing that it writes appears before it is complete,
// so that this loses no more than a kill would.
func interruptible(abort func()) (ctx context.Context, stop func()) {
	ctx, cancel := context.WithCancelCause(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	done := make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() {
		select {
		case <-done:
			return
		case <-signals:
		}
		cancel(errInterrupted)
		timer := time.NewTimer(patience)
		defer timer.Stop()
		select {
		case <-done:
		case <-signals:
			abort()
		case <-timer.C:
			abort()
		}
	})
	return ctx, func() {
		signal.Stop(signals)
		close(done)
		wait.Wait()
		cancel(nil)
	}
}
