package health

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
)

// patience is how long a drive may take for all its answers.
const patience = 8 * time.Second

// Asker asks drives. One that doesn't answer in time is left alone until its answer has come: the kernel gives such a
// question up by itself, and until then nothing ends it.
type Asker struct {
	mu      sync.Mutex
	waiting map[string]chan *Report // by path
}

// Ask asks the drive with a path how it is; for an image file its label answers. It never returns nil.
func (a *Asker) Ask(ctx context.Context, path string) *Report {
	answer := a.question(path)
	limit := time.NewTimer(patience)
	defer limit.Stop()
	select {
	case r := <-answer:
		a.mu.Lock()
		delete(a.waiting, path)
		a.mu.Unlock()
		return r
	case <-ctx.Done():
		return silent("asking it was cancelled")
	case <-limit.C:
		return silent("it doesn't answer how it is; it may be hanging")
	}
}

// question is a question to a drive that is under way, or a new one.
func (a *Asker) question(path string) chan *Report {
	a.mu.Lock()
	defer a.mu.Unlock()
	if c := a.waiting[path]; c != nil {
		return c
	}
	c := make(chan *Report, 1)
	if a.waiting == nil {
		a.waiting = map[string]chan *Report{}
	}
	a.waiting[path] = c
	go func() { c <- ask(path) }()
	return c
}

func ask(path string) *Report {
	st, err := os.Stat(path)
	if err != nil {
		return silent("it can't be reached")
	}
	var p port
	if st.Mode().IsRegular() {
		s, told := standInOf(path)
		if !told {
			return silent("an image file has no health of its own")
		}
		time.Sleep(s.hangs())
		p = s
	} else {
		fd, failed := unix.Open(path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
		if failed != nil {
			return silent(whyNot(failed))
		}
		f := os.NewFile(uintptr(fd), path)
		defer f.Close()
		p = kernelPort{f}
	}
	r, err := askThrough(p, strings.HasPrefix(filepath.Base(path), "nvme"))
	if err != nil {
		return silent(whyNot(err))
	}
	r.At = time.Now().Truncate(time.Second)
	return r
}

// askThrough finds the standard that a drive answers in.
func askThrough(p port, nvme bool) (*Report, error) {
	if s, ok := p.(*standIn); nvme || ok && s.Standard == NVMe {
		return askNVMe(p)
	}
	i, err := inquire(p)
	if err != nil {
		return nil, err
	}
	if !i.disk {
		return nil, errRefused
	}
	r, notATA := askATA(p) // bridges to ATA drives often bear names of their own
	if notATA == nil {
		return r, nil
	}
	if r, err = askSCSI(p, i); err != nil && i.vendor == "ATA" {
		err = notATA
	}
	return r, err
}

// whyNot says why nothing is told.
func whyNot(err error) string {
	switch {
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EACCES):
		return "only root may ask it how it is"
	case errors.Is(err, syscall.ENOTTY), errors.Is(err, syscall.EINVAL), errors.Is(err, syscall.EOPNOTSUPP):
		return "it isn't a drive that can be asked"
	case disk.Gone(err):
		return "it can't be reached any more"
	}
	return "it, or what it is attached through, doesn't tell how it is"
}
