package sandbox

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// watch looks after a running command from inside its process namespace: what
// memory all its processes have, how long it runs, how much it writes. Control
// groups, if the caller may make one, bound memory at once (cgroup.go); they
// are not open to ordinary users everywhere.
type watch struct {
	orders  *orders
	mu      sync.Mutex
	limit   string // that was gone over
	peak    int64
	done    chan struct{}
	stopped sync.WaitGroup
}

// How often it looks, and which part of the time measuring may take: one in so
// many.
const (
	watchEvery  = 100 * time.Millisecond
	memoryShare = 10
	diskShare   = 20
)

func (s *orders) watch(pid int) *watch {
	w := &watch{orders: s, done: make(chan struct{})}
	w.stopped.Go(func() { w.look(pid) })
	return w
}

func (w *watch) look(pid int) {
	began := time.Now()
	memory, disk := began, began.Add(time.Second/4)
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	limits := w.orders.Limits
	var m measured
	for {
		select {
		case <-w.done:
			return
		case <-tick.C:
		}
		if now := time.Now(); now.After(memory) {
			m = measure()
			memory = time.Now().Add(memoryShare * time.Since(now))
			w.mu.Lock()
			w.peak = max(w.peak, m.memory)
			w.mu.Unlock()
		}
		switch {
		case limits.Memory > 0 && m.memory > limits.Memory && !w.orders.Grouped:
			w.end("memory, " + bytesText(limits.Memory))
		case limits.Time > 0 && time.Since(began) > limits.Time:
			w.end("time, " + limits.Time.String())
		case limits.Disk > 0 && time.Now().After(disk):
			from := time.Now()
			if written()+m.disk > limits.Disk {
				w.end("disk, " + bytesText(limits.Disk))
			}
			disk = time.Now().Add(max(time.Second/4, diskShare*time.Since(from)))
		}
	}
}

// end ends every process but this one.
func (w *watch) end(limit string) {
	w.mu.Lock()
	if w.limit == "" {
		w.limit = limit // the first one is the cause
	}
	w.mu.Unlock()
	syscall.Kill(-1, syscall.SIGKILL)
}

// stop ends the watch once the command has ended, and tells what it saw.
func (w *watch) stop(pid int) Usage {
	close(w.done)
	w.stopped.Wait()
	u := Usage{Memory: w.peak}
	for _, p := range processes() {
		if p == pid || p == 1 {
			continue
		}
		if command := commandLine(p); command != "" && len(u.Left) < 10 {
			u.Left = append(u.Left, command)
		}
	}
	return u
}

// commandLine is how a process was started; empty for one that has ended and
// is only waited for.
func commandLine(pid int) string {
	line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if len(line) > 0 {
		return strings.TrimSpace(strings.ReplaceAll(string(line), "\x00", " "))
	}
	stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	name, rest, ok := strings.Cut(string(stat), ") ")
	if _, after, found := strings.Cut(name, "("); ok && found && !strings.HasPrefix(rest, "Z") {
		return after
	}
	return ""
}

// processes lists the numbers of all processes of this namespace.
func processes() []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var out []int
	for _, e := range entries {
		if n, err := strconv.Atoi(e.Name()); err == nil {
			out = append(out, n)
		}
	}
	return out
}
