package first

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// children are the processes that somebody waits for; all others that end are reaped.
type children struct {
	mu  sync.Mutex
	own map[int]bool
	all sync.WaitGroup
}

// run runs a command to its end.
func (c *children) run(cmd *exec.Cmd) error {
	c.mu.Lock()
	err := cmd.Start()
	if err == nil {
		c.own[cmd.Process.Pid] = true
		c.all.Add(1)
	}
	c.mu.Unlock()
	if err != nil {
		return err
	}
	defer c.all.Done()
	err = cmd.Wait()
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.own, cmd.Process.Pid)
	return err
}

// reapEvery is how often processes are looked for that ended and that nobody waits for.
const reapEvery = 500 * time.Millisecond

// reap reaps processes that nobody waits for, until the context is done.
func (c *children) reap(ctx context.Context) {
	tick := time.NewTicker(reapEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			for c.one() {
			}
		}
	}
}

// one reaps a process, and says whether there may be more.
func (c *children) one() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	var info unix.Siginfo
	err := unix.Waitid(unix.P_ALL, 0, &info, unix.WEXITED|unix.WNOHANG|unix.WNOWAIT, nil)
	if err != nil {
		return errors.Is(err, unix.EINTR)
	}
	pid := pidOf(&info)
	if pid == 0 || c.own[pid] {
		return false
	}
	_, err = unix.Wait4(pid, nil, unix.WNOHANG, nil)
	return err == nil
}

// pidOf is the process that a siginfo of waitid is about (siginfo_t, si_pid: the first field after the head of three
// numbers and their padding).
func pidOf(info *unix.Siginfo) int {
	const at = 16
	return int(*(*int32)(unsafe.Add(unsafe.Pointer(info), at)))
}

// goodOrder is how long a program gets to end its work in good order.
const goodOrder = time.Minute

// onConsole has a command run on a terminal of its own.
func onConsole(ctx context.Context, tty *os.File, name string, args, env []string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	cmd.Env = env
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	// It ends its work in good order, and is only killed when it doesn't.
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = goodOrder
	return cmd
}
