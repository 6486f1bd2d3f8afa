package workshop

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"
	"time"

	"twinshelf/internal/routine"
	"twinshelf/internal/units"
)

// watchEnds is how long a watching process has to leave the shelf whole when it is told to end.
const watchEnds = time.Minute

// WatchArgs are the arguments with which this program watches the routines of this workshop.
func (w *room) WatchArgs() []string {
	args := []string{"--quiet"}
	for _, image := range w.Bench.Images {
		args = append(args, "--disk", image)
	}
	if w.Bench.System && len(w.Bench.Images) > 0 {
		args = append(args, "--attached")
	}
	if s := w.shelf(); s != nil {
		args = append(args, "--shelf", s.Place())
	}
	return append(args, "routine", "watch")
}

// WatchBeside runs a process beside this one that runs routines when they are due, and returns once it has ended: when
// the context ends, or with the reason why it couldn't go on. It dies with this process, however that ends.
func (w *Workshop) WatchBeside(ctx context.Context) error {
	program, err := os.Executable()
	if err != nil {
		return fmt.Errorf("where this program lies can't be told: %w", err)
	}
	runtime.LockOSThread() // the signal comes when the thread ends that started the process
	defer runtime.UnlockOSThread()
	cmd := exec.CommandContext(ctx, program, w.WatchArgs()...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = watchEnds
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+w.State.Above())
	var said tail
	cmd.Stderr = &said
	err = cmd.Run()
	switch {
	case ctx.Err() != nil:
		return nil
	case err == nil:
		err = errors.New("it ended")
	}
	return fmt.Errorf("nothing watches the routines any more: %w: "+
		"%s", err, units.Visible(strings.TrimSpace(string(said))))
}

// mostTail is how much of what a process says is kept.
const mostTail = 500

// tail keeps the end of what is written.
type tail []byte

func (t *tail) Write(b []byte) (int, error) {
	*t = append(*t, b...)
	*t = (*t)[max(0, len(*t)-mostTail):]
	return len(b), nil
}

// Watch is who runs routines by themselves.
type Watch struct {
	Process bool // one that watches
	Service bool // systemd: its timer is switched on
}

// Watch says who runs routines by themselves, as far as that can be seen from here.
func (w *room) Watch() (out Watch) {
	lock, err := w.Routines().LockWatch()
	if err == nil {
		lock.Close()
	}
	out.Process = errors.As(err, new(*routine.WatchedError))
	out.Service = booted() && switchedOn(places())
	return out
}
