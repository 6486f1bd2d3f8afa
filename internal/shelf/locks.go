package shelf

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/units"
)

// Locks are files in locks/, made by rename, that their holder writes again and again: they work between
// processes and between machines that share the folder. Readers need none. Captures of different
// machines may go on beside each other; giving back space and the like want to be alone.
// docs/shelf-format.md, "Locks".

// Holder is who holds a lock.
type Holder struct {
	ID      string    `json:"id"`
	Host    string    `json:"host"`
	Boot    string    `json:"boot"` // of the host's kernel
	PID     int       `json:"pid"`
	Started uint64    `json:"started"` // of the process, in clock ticks since boot
	What    string    `json:"what"`
	Since   time.Time `json:"since"`
	// Alone keeps everybody else from writing.
	Alone bool `json:"alone,omitempty"`
	// Machine is the folder of the machine that is captured; two captures of one machine would mix their dates.
	Machine string `json:"machine,omitempty"`
}

func (h Holder) String() string {
	return fmt.Sprintf("%s by process %d on %s since %s", h.What, h.PID, h.Host, h.Since.Local().Format("2006-01-02 15:04:05"))
}

const (
	beatEvery = 20 * time.Second
	// staleAfter is how long a lock lives without a beat, by the clock of the shelf's folder.
	staleAfter = 3 * time.Minute
	tries      = 4
	maxLock    = 64 << 10
)

// lock is a held lock.
type lock struct {
	s      *Shelf
	holder Holder
	once   sync.Once
	stop   chan struct{}
	beats  sync.WaitGroup
}

func lockPath(id string) string { return "locks/" + id + ".lock" }

func bootID() string {
	b, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(b))
}

// startOf is when a process began, in ticks since boot (proc(5), field 22); 0 when it can't be told.
func startOf(pid int) uint64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	if f := strings.Fields(rest); len(f) > 19 {
		n, _ := strconv.ParseUint(f[19], 10, 64)
		return n
	}
	return 0
}

// write puts the lock's file in place, also for every beat.
func (l *lock) write() error {
	b, err := json.Marshal(l.holder)
	if err != nil {
		return err
	}
	temp := "tmp/" + l.holder.ID + "-lock"
	w, err := l.s.b.Create(temp)
	if err != nil {
		return err
	}
	_, err = w.Write(b)
	if err = errors.Join(err, w.Close()); err == nil {
		err = l.s.b.Rename(temp, lockPath(l.holder.ID))
	}
	if err != nil {
		_ = l.s.b.Remove(temp)
	}
	return err
}

// acquire takes a lock, or says who is in the way.
func (s *Shelf) acquire(h Holder) (*lock, error) {
	h.Host, _ = os.Hostname()
	h.Boot, h.PID, h.Started, h.Since = bootID(), os.Getpid(), startOf(os.Getpid()), time.Now()
	for try := range tries {
		h.ID = newID()
		l := &lock{s: s, holder: h, stop: make(chan struct{})}
		if err := s.withRoom(l.write); err != nil {
			return nil, err
		}
		others, err := s.holders(h.ID)
		if err != nil {
			_ = s.b.Remove(lockPath(h.ID))
			return nil, err
		}
		var inTheWay *Holder
		for i := range others {
			o := &others[i]
			if h.Alone || o.Alone || h.Machine != "" && h.Machine == o.Machine {
				inTheWay = o
			}
		}
		if inTheWay == nil {
			l.beats.Go(l.beat)
			s.clearTemp(h)
			return l, nil
		}
		_ = s.b.Remove(lockPath(h.ID))
		if try == tries-1 || time.Since(inTheWay.Since) > 2*time.Second {
			return nil, fmt.Errorf("%w: %s; wait until it is done", ErrBusy, inTheWay)
		}
		// Two who came at the same moment saw each other: the luckier one goes first.
		time.Sleep(time.Duration(50+rand.IntN(300)) * time.Millisecond)
	}
	return nil, ErrBusy
}

// holders are the live locks beside the given one. Stale ones are cleared away, with what they left in tmp.
func (s *Shelf) holders(own string) ([]Holder, error) {
	names, err := s.b.List("locks")
	if err != nil {
		return nil, err
	}
	var now time.Time // by the clock of the folder, as far as it can be told
	if own != "" {
		if _, mod, err := s.b.Stat(lockPath(own)); err == nil {
			now = mod
		}
	}
	if now.IsZero() {
		now = time.Now()
	}
	var live []Holder
	for _, n := range names {
		id, ok := strings.CutSuffix(n, ".lock")
		if !ok || id == own {
			continue
		}
		raw, err := s.b.ReadFile("locks/"+n, maxLock)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		h := Holder{What: "something that can't be told"}
		if err == nil && json.Unmarshal(units.VisibleJSON(raw), &h) != nil {
			h = Holder{What: "something that can't be told"}
		}
		h.ID = id
		_, mod, err := s.b.Stat("locks/" + n)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if now.Sub(mod) > staleAfter || h.dead() {
			if own != "" {
				s.clearAfter(id)
			}
			continue
		}
		live = append(live, h)
	}
	return live, nil
}

// dead says whether the holder was a process of this host that is no more.
func (h Holder) dead() bool {
	host, _ := os.Hostname()
	if h.PID == 0 || h.Host != host || h.Boot == "" {
		return false
	}
	if h.Boot != bootID() {
		return true
	}
	if errors.Is(unix.Kill(h.PID, 0), unix.ESRCH) {
		return true
	}
	began := startOf(h.PID)
	return h.Started != 0 && began != 0 && began != h.Started
}

// clearAfter removes a stale lock and the unfinished files of its holder.
func (s *Shelf) clearAfter(id string) {
	names, _ := s.b.List("tmp")
	for _, n := range names {
		if strings.HasPrefix(n, id) {
			_ = s.b.Remove("tmp/" + n)
		}
	}
	_ = s.b.Remove(lockPath(id))
}

func (l *lock) beat() {
	t := time.NewTicker(beatEvery)
	defer t.Stop()
	for {
		select {
		case <-l.stop:
			return
		case <-t.C:
			if l.held() == nil {
				_ = l.write()
			}
		}
	}
}

// held says whether the lock is still there: somebody may have taken this process for dead.
func (l *lock) held() error {
	if _, _, err := l.s.b.Stat(lockPath(l.holder.ID)); err != nil {
		return fmt.Errorf("the lock was lost (%w): another process took this one for dead, probably because this machine slept; start again", err)
	}
	return nil
}

// release lets go; it may be called more than once.
func (l *lock) release() {
	l.once.Do(func() {
		close(l.stop)
		l.beats.Wait()
		_ = l.s.b.Remove(lockPath(l.holder.ID))
	})
}

// exclusive takes the lock of work that wants to be alone.
func (s *Shelf) exclusive(what string) (release func(), err error) {
	l, err := s.acquire(Holder{What: what, Alone: true})
	if err != nil {
		return nil, fmt.Errorf("the shelf in %s can't be changed now: %w", s.b.Place(), err)
	}
	return l.release, nil
}

// Holders says who holds a lock of the shelf now.
func (s *Shelf) Holders() ([]Holder, error) { return s.holders("") }
