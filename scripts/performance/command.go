package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// cost is what a piece of work took: time on the clock and of the processors in seconds, and the most memory that was
// resident at a time, in bytes.
type cost struct {
	clock, busy float64
	peak        int64
}

// dropCaches empties the kernel's memory of what is on disks (kernel documentation, sysctl/vm).
const dropCaches = "/proc/sys/vm/drop_caches"

// fresh makes sure that nothing waits to be written, and where that can be done that nothing is in memory yet, but for
// a disk that is held there.
func (b *bench) fresh(ctx context.Context) error {
	syscall.Sync()
	if b.cold {
		if err := os.WriteFile(dropCaches, []byte("3"), 0o200); err != nil {
			return err
		}
	}
	if !b.held {
		return nil
	}
	f, err := os.Open(b.stretch)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := io.Copy(io.Discard, f); err != nil {
		return err
	}
	_, err = b.read(ctx, io.Discard)
	return err
}

// twinshelf runs the program with a shelf.
func (b *bench) twinshelf(ctx context.Context, shelf string, args ...string) (cost, error) {
	return b.run(ctx, append([]string{b.program, "--quiet", "--shelf", shelf}, args...))
}

// run runs command lines one after another, and says what all of them took.
func (b *bench) run(ctx context.Context, lines ...[]string) (all cost, err error) {
	if err := b.fresh(ctx); err != nil {
		return cost{}, err
	}
	for _, line := range lines {
		var said bytes.Buffer
		c := exec.CommandContext(ctx, line[0], line[1:]...)
		c.Stdout, c.Stderr, c.Dir = io.Discard, &said, b.dir
		c.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(b.dir, "state"),
			"XDG_CACHE_HOME="+filepath.Join(b.dir, "cache"), "XDG_CONFIG_HOME="+filepath.Join(b.dir, "config"))
		begun := time.Now()
		if err := c.Start(); err != nil {
			return cost{}, fmt.Errorf("%s: %w", line, err)
		}
		ended, peak := make(chan struct{}), make(chan int64)
		go func() { peak <- watched(c.Process.Pid, ended) }()
		err := c.Wait()
		all.clock += time.Since(begun).Seconds()
		close(ended)
		all.peak = max(all.peak, <-peak)
		all.busy += (c.ProcessState.UserTime() + c.ProcessState.SystemTime()).Seconds()
		if err != nil {
			return cost{}, fmt.Errorf("%s: %w: %s", line, err, said.Bytes())
		}
	}
	return all, nil
}

// watched is the most memory that a process had until it ended, looked at a hundred times a second. What the kernel
// says of a process that was waited for has the memory of the one that started it in it.
func watched(pid int, ended <-chan struct{}) (most int64) {
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ended:
			return most
		case <-tick.C:
			most = max(most, resident(pid))
		}
	}
}

// resident is the most memory that a process had so far, in bytes (proc(5), VmHWM); 0 where that can't be told.
func resident(pid int) int64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	_, rest, found := strings.Cut(string(raw), "VmHWM:")
	if fields := strings.Fields(rest); found && len(fields) > 0 {
		kib, _ := strconv.ParseInt(fields[0], 10, 64) // 0 where it is no number
		return kib << 10
	}
	return 0
}

// timed says what work in this process takes on the clock.
func (b *bench) timed(ctx context.Context, work func() error) (cost, error) {
	if err := b.fresh(ctx); err != nil {
		return cost{}, err
	}
	begun := time.Now()
	err := work()
	return cost{clock: time.Since(begun).Seconds()}, err
}

// stored is how much room a folder takes, in bytes.
func stored(dir string) (n int64, err error) {
	err = filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		st, err := e.Info()
		if err == nil {
			n += st.Size()
		}
		return err
	})
	return n, err
}
