package routine

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/durable"
	"twinshelf/internal/units"
)

// Files that say how a run goes, and that somebody wants it to end.
const (
	liveFile = "live.json"
	stopFile = "stop.json"
)

// Live is how a run goes, as the process that does it says from time to time.
type Live struct {
	Began   time.Time     `json:"begun"`
	Seen    time.Time     `json:"seen"` // when this was said
	Process int           `json:"process"`
	Host    string        `json:"host"`
	Title   string        `json:"title,omitempty"` // of the step
	Phase   string        `json:"phase,omitempty"`
	Done    int64         `json:"bytes_done"` // of the phase
	Total   int64         `json:"bytes_total"`
	Left    time.Duration `json:"left,omitempty"` // of the phase, at the most
}

// Words say it on a line.
func (l *Live) Words() string {
	s := fmt.Sprintf("process %d since %s", l.Process, units.Moment(l.Began.Local()))
	if l.Phase != "" {
		s += ": " + l.Phase
	}
	if l.Total > 0 {
		s += fmt.Sprintf(", %s of %s", units.Percent(l.Done, l.Total), units.Bytes(l.Total))
	}
	if l.Left > 0 {
		s += ", up to " + units.Duration(l.Left) + " left"
	}
	return s
}

// Show says how a run goes.
func (b *Book) Show(name string, l Live) error {
	raw, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return durable.Swap(b.path(name, liveFile), append(raw, '\n'))
}

// Live is how the run goes that holds a routine's lock; nil where that isn't said (yet).
func (b *Book) Live(name string) *Live {
	var l Live
	raw, err := os.ReadFile(b.path(name, liveFile))
	if err != nil || json.Unmarshal(units.VisibleJSON(raw), &l) != nil || l.Began.IsZero() {
		return nil
	}
	return &l
}

// watchFile is locked by the process that watches.
const watchFile = "watch.lock"

// WatchedError means that another process watches already.
type WatchedError struct{}

func (*WatchedError) Error() string {
	return "another process watches the routines already: one is enough"
}

// LockWatch keeps others from watching; a WatchedError says that one does. It ends with the process.
func (b *Book) LockWatch() (io.Closer, error) {
	if err := os.MkdirAll(b.dir, 0o700); err != nil {
		return nil, fmt.Errorf("the routines can't be watched: %w", err)
	}
	for range lockTries { // who only looks whether somebody watches has the lock for a moment
		lock, err := durable.Lock(filepath.Join(b.dir, watchFile), false)
		if err == nil {
			return lock, nil
		}
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return nil, fmt.Errorf("the routines can't be watched: %w", err)
		}
		time.Sleep(lockPause)
	}
	return nil, &WatchedError{}
}

// stopping is a wish that a run ends.
type stopping struct {
	Began time.Time `json:"begun"` // of the run that is meant, and no other
}

// IdleError means that there is no run that could be stopped.
type IdleError struct{ Name string }

func (e *IdleError) Error() string {
	return fmt.Sprintf("%s isn't running: there is nothing to stop", e.Name)
}

// AskStop asks the process that runs a routine to stop it; an IdleError says that none does. The run ends at its next
// look, within seconds.
func (b *Book) AskStop(name string) error {
	lock, err := b.Lock(name)
	if err == nil {
		return errors.Join(&IdleError{name}, lock.Close())
	}
	if !errors.As(err, new(*BusyError)) {
		return err
	}
	l := b.Live(name)
	if l == nil {
		return fmt.Errorf("%s has only just begun: try again in a moment", name)
	}
	raw, err := json.Marshal(stopping{l.Began})
	if err == nil {
		err = durable.Swap(b.path(name, stopFile), append(raw, '\n'))
	}
	if err != nil {
		return fmt.Errorf("%s can't be asked to stop: %w", name, err)
	}
	return nil
}

// StopAsked says whether somebody asked the run to stop that began then.
func (b *Book) StopAsked(name string, began time.Time) bool {
	var s stopping
	raw, err := os.ReadFile(b.path(name, stopFile))
	return err == nil && json.Unmarshal(raw, &s) == nil && s.Began.Equal(began)
}

// EndLive forgets how a run went. Who calls it holds the routine's lock.
func (b *Book) EndLive(name string) error {
	var all error
	for _, file := range []string{liveFile, stopFile} {
		if err := os.Remove(b.path(name, file)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			all = errors.Join(all, err)
		}
	}
	return all
}
