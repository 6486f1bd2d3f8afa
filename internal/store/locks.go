package store

import (
	"context"
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

	"twinshelf/internal/store/backend"
	"twinshelf/internal/units"
)

// Locks are files in locks/ that their holder writes again and again: they work between processes and between machines
// that share the folder. Readers need none. Captures of different machines may go on beside each other; giving back
// space and the like want to be alone. docs/shelf-format.md, "Locks".

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
	// Machine is the folder of the machine that is captured; two captures of one machine would mix their dates. Other
	// work that mustn't meet its like uses it too.
	Machine string `json:"machine,omitempty"`
}

func (h Holder) String() string {
	return fmt.Sprintf("%s by process %d on %s since %s", h.What, h.PID, h.Host,
		h.Since.Local().Format("2006-01-02 15:04:05"))
}

// ErrBusy means that another process writes to the shelf.
var ErrBusy = errors.New("another process writes to this shelf")

// ErrLockLost means that somebody may have taken the holder of a lock for dead.
var ErrLockLost = errors.New("the lock was lost: another process may have taken this one for dead, probably because " +
	"this machine slept; start again")

const (
	beatEvery = 20 * time.Second
	// staleAfter is how long a lock lives without a beat, by the clock of the shelf's folder.
	staleAfter = 3 * time.Minute
	// doubtedAfter is after how long without a beat its own holder no longer counts on it: well before anybody else
	// takes the holder for dead.
	doubtedAfter = 2 * time.Minute
	tries        = 4
	maxLock      = 64 << 10
)

// locks takes the locks of a store.
type locks struct {
	b     backend.Backend
	files *files
	// boot is the time since this machine was started, sleep included.
	boot func() time.Duration

	mu sync.Mutex
	// left are locks that were let go of and couldn't be deleted, by their IDs: the line was cut, say.
	left map[string]bool
}

// Lock is a held lock. Its methods may be called from many goroutines; a nil Lock is that of work which needs none.
type Lock struct {
	of     *locks
	holder Holder
	ctx    context.Context // of whoever took it, but for its end: a lock outlives the cancelling of its work
	once   sync.Once
	stop   chan struct{}
	aside  sync.WaitGroup // what goes on beside the work

	mu     sync.Mutex
	beaten time.Duration // when it was last written, in time since boot
	lost   error
}

func lockPath(id string) string { return backend.LockFolder + "/" + id + ".lock" }

func bootID() string {
	b, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(b))
}

// sinceBoot is the time since this machine was started. Unlike the clock of time.Since it doesn't stop during sleep.
func sinceBoot() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
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
func (l *Lock) write() error {
	b, err := json.Marshal(l.holder)
	if err != nil {
		return err
	}
	now := l.of.boot()
	o := backend.Options{Owner: l.holder.ID, Fleeting: true}
	if err := backend.Put(l.ctx, l.of.b, lockPath(l.holder.ID), b, o, nil); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.beaten = now
	return nil
}

// acquire takes a lock, or says who is in the way.
func (k *locks) acquire(ctx context.Context, h Holder) (*Lock, error) {
	h.Host, _ = os.Hostname()
	h.Boot, h.PID, h.Started, h.Since = bootID(), os.Getpid(), startOf(os.Getpid()), time.Now()
	for try := range tries {
		h.ID = newID()
		l := &Lock{of: k, holder: h, ctx: context.WithoutCancel(ctx), stop: make(chan struct{})}
		inTheWay, err := k.try(ctx, l)
		if err != nil {
			return nil, err
		}
		if inTheWay == nil {
			l.aside.Go(l.beat)
			l.aside.Go(func() { k.sweep(ctx, h) }) // nothing that is done under the lock depends on it
			return l, nil
		}
		if try == tries-1 || time.Since(inTheWay.Since) > 2*time.Second {
			return nil, fmt.Errorf("%w: %s; wait until it is done", ErrBusy, inTheWay)
		}
		// Two who came at the same moment saw each other: the luckier one goes first.
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(time.Duration(50+rand.IntN(300)) * time.Millisecond):
		}
	}
	return nil, ErrBusy
}

// try puts a lock in place, and takes it away again when somebody is in the way.
func (k *locks) try(ctx context.Context, l *Lock) (inTheWay *Holder, err error) {
	if err := k.files.withRoom(ctx, l.write); err != nil {
		return nil, err
	}
	others, err := k.holders(ctx, l.holder.ID)
	for i := range others {
		o := &others[i]
		if l.holder.Alone || o.Alone || l.holder.Machine != "" && l.holder.Machine == o.Machine {
			inTheWay = o
		}
	}
	if err != nil || inTheWay != nil {
		_ = k.b.Delete(l.ctx, lockPath(l.holder.ID))
	}
	return inTheWay, err
}

// holders are the live locks beside the given one. Stale ones are cleared away, with what they left behind. Whoever has
// no lock can't tell the clock of the folder, and may be far from it: then all live but those whose process is known to
// be no more.
func (k *locks) holders(ctx context.Context, own string) ([]Holder, error) {
	names, err := k.b.List(ctx, backend.LockFolder)
	if err != nil {
		return nil, err
	}
	var now time.Time // by the clock of the folder; zero where that can't be told
	if own != "" {
		if info, err := k.b.Stat(ctx, lockPath(own)); err == nil {
			now = info.Changed
		}
	}
	var live []Holder
	for _, n := range names {
		id, ok := strings.CutSuffix(n, ".lock")
		if !ok || id == own {
			continue
		}
		h, changed, err := k.holder(ctx, id)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		case (now.IsZero() || now.Sub(changed) <= staleAfter) && !h.dead() && !k.wasLeft(id):
			live = append(live, h)
		case own != "":
			k.bury(ctx, id)
		}
	}
	return live, nil
}

// holder reads a lock's file.
func (k *locks) holder(ctx context.Context, id string) (h Holder, changed time.Time, err error) {
	raw, err := backend.Get(ctx, k.b, lockPath(id), maxLock)
	if errors.Is(err, fs.ErrNotExist) || ctx.Err() != nil {
		return h, changed, err
	}
	if err != nil || json.Unmarshal(units.VisibleJSON(raw), &h) != nil {
		h = Holder{What: "something that can't be told"}
	}
	h.ID = id
	info, err := k.b.Stat(ctx, lockPath(id))
	return h, info.Changed, err
}

// Here says whether the holder is, or was, a process of this host: of others it can't be told whether they are still at
// work.
func (h Holder) Here() bool {
	host, _ := os.Hostname()
	return h.PID != 0 && h.Host == host && h.Boot != ""
}

// dead says whether the holder was a process of this host that is no more.
func (h Holder) dead() bool {
	if !h.Here() {
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

// bury removes a stale lock and the unfinished objects of its holder.
func (k *locks) bury(ctx context.Context, id string) {
	_ = k.b.Sweep(ctx, func(label string, _ time.Time) bool { return strings.HasPrefix(label, id) })
	_ = k.b.Delete(ctx, lockPath(id))
}

func (l *Lock) beat() {
	t := time.NewTicker(beatEvery)
	defer t.Stop()
	for {
		select {
		case <-l.stop:
			return
		case <-t.C:
			if l.Held(l.ctx) == nil {
				_ = l.write()
			}
		}
	}
}

// Held says whether the lock is held at this moment. Once it was lost it stays lost: ErrLockLost.
func (l *Lock) Held(ctx context.Context) error {
	if l == nil {
		return nil
	}
	if err := l.counts(); err != nil {
		return err
	}
	_, err := l.of.b.Stat(ctx, lockPath(l.holder.ID))
	if errors.Is(err, fs.ErrNotExist) {
		l.mu.Lock()
		l.lost = ErrLockLost
		l.mu.Unlock()
	} else if err != nil {
		return fmt.Errorf("whether the lock is still held can't be told: %w", err)
	}
	return l.counts()
}

// counts says whether the holder may count on its lock: not when it couldn't write it for too long.
func (l *Lock) counts() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lost == nil && l.of.boot()-l.beaten > doubtedAfter {
		l.lost = ErrLockLost
	}
	return l.lost
}

// Release lets go; it may be called more than once.
func (l *Lock) Release() {
	if l == nil {
		return
	}
	l.once.Do(func() {
		close(l.stop)
		l.aside.Wait()
		if err := l.of.b.Delete(l.ctx, lockPath(l.holder.ID)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			l.of.leave(l.holder.ID)
		}
	})
}

// leave notes that nobody holds a lock any more that is still there.
func (k *locks) leave(id string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.left == nil {
		k.left = map[string]bool{}
	}
	k.left[id] = true
}

// wasLeft says whether a lock was let go of here.
func (k *locks) wasLeft(id string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.left[id]
}

// Machine is the folder of the machine that the lock is for.
func (l *Lock) Machine() string { return l.holder.Machine }

// owner begins the labels of what is being written under the lock.
func (l *Lock) owner() string {
	if l == nil {
		return processTag()
	}
	return l.holder.ID
}

// Acquire takes a lock, or says who is in the way: ErrBusy. Nothing of the holder but What, Alone and Machine is asked
// for.
func (k *locks) Acquire(ctx context.Context, h Holder) (*Lock, error) { return k.acquire(ctx, h) }

// Exclusive takes the lock of work that wants to be alone.
func (k *locks) Exclusive(ctx context.Context, what string) (*Lock, error) {
	l, err := k.acquire(ctx, Holder{What: what, Alone: true})
	if err != nil {
		return nil, fmt.Errorf("the shelf in %s can't be changed now: %w", k.b.Place(), err)
	}
	return l, nil
}

// Holders says who holds a lock of the store now.
func (k *locks) Holders(ctx context.Context) ([]Holder, error) { return k.holders(ctx, "") }

// Overlook waits until a listing shows everything that others did before a lock was taken. What removes things by what
// it doesn't find in a listing calls it first.
func (k *locks) Overlook(ctx context.Context) error {
	lag := k.b.Lag()
	if lag == 0 {
		return ctx.Err()
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(lag):
		return nil
	}
}
