package routine

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/durable"
	"twinshelf/internal/units"
)

// What a routine's folder has: the routine as text, its pace, what became of it line by line, and the lock of a run.
const (
	textFile    = "routine.txt"
	paceFile    = "pace.json"
	historyFile = "history.jsonl"
	lockFile    = "lock"

	mostHistory  = 64 << 20 // bytes that are read
	mostRoutines = 1000
	mostLog      = 200 // lines of an entry

	lockTries = 5
	lockPause = 20 * time.Millisecond
)

// ErrNone means that no routine has that name.
var ErrNone = errors.New("no such routine")

// BusyError means that a routine is running.
type BusyError struct{ Name string }

func (e *BusyError) Error() string {
	return fmt.Sprintf("the routine %s is running already, here or in another process; wait until it has ended", e.Name)
}

// Book is a folder of routines, with a folder for each.
type Book struct{ dir string }

// NewBook is the book in a folder, which needn't exist.
func NewBook(dir string) *Book { return &Book{dir} }

func (b *Book) path(name, file string) string { return filepath.Join(b.dir, name, file) }

// Names are those of all routines, in order.
func (b *Book) Names() ([]string, error) {
	all, err := os.ReadDir(b.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, e := range all {
		if _, err := os.Stat(b.path(e.Name(), textFile)); err == nil && len(out) < mostRoutines {
			out = append(out, e.Name())
		}
	}
	return out, err
}

// Find is the routine of a name, whatever the case of its letters, or the only one whose name begins so.
func (b *Book) Find(name string) (*Routine, error) {
	names, err := b.Names()
	if err != nil {
		return nil, err
	}
	var begins []string
	for _, n := range names {
		if strings.EqualFold(n, name) {
			return b.load(n)
		}
		if name != "" && len(n) > len(name) && strings.EqualFold(n[:len(name)], name) {
			begins = append(begins, n)
		}
	}
	switch {
	case len(begins) == 1:
		return b.load(begins[0])
	case len(begins) > 1:
		return nil, fmt.Errorf("%w: %q could be %s", ErrNone, name, units.Choices(begins))
	case len(names) == 0:
		return nil, fmt.Errorf("%w: %q; none was made yet", ErrNone, name)
	}
	return nil, fmt.Errorf("%w: %q; there are %s", ErrNone, name, strings.Join(names, ", "))
}

func (b *Book) load(name string) (*Routine, error) {
	f, err := os.Open(b.path(name, textFile))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r, err := Parse(f)
	if err != nil {
		return nil, fmt.Errorf("the routine %s can't be understood: %w; mend or remove %s", name, err, f.Name())
	}
	if r.Name != name {
		return nil, fmt.Errorf("%s is of a routine that is called %s; mend or remove it", f.Name(), r.Name)
	}
	return r, nil
}

// Save keeps a routine, made or changed at a moment. What was due before isn't made up for.
func (b *Book) Save(r *Routine, now time.Time) error {
	if err := r.Check(); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(b.dir, r.Name), 0o700); err != nil {
		return fmt.Errorf("the routine %s can't be kept: %w", r.Name, err)
	}
	if err := changed(b.path(r.Name, textFile), func() ([]byte, error) { return []byte(r.Text()), nil }); err != nil {
		return fmt.Errorf("the routine %s can't be kept: %w", r.Name, err)
	}
	return b.SetPace(r.Name, func(p *Pace) { p.Made = now })
}

// changed writes a file anew, while nobody else does.
func changed(path string, contents func() ([]byte, error)) error {
	lock, err := durable.Lock(path+".lock", true)
	if err != nil {
		return err
	}
	defer lock.Close()
	raw, err := contents()
	if err != nil {
		return err
	}
	return durable.Replace(path, raw)
}

// Remove forgets a routine and its history. One that runs isn't removed.
func (b *Book) Remove(name string) error {
	lock, err := b.Lock(name)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := os.RemoveAll(filepath.Join(b.dir, name)); err != nil {
		return fmt.Errorf("the routine %s can't be removed: %w", name, err)
	}
	return durable.SyncFolder(b.dir)
}

// Lock keeps others from running a routine; a BusyError says that one does. It ends with the process.
func (b *Book) Lock(name string) (io.Closer, error) {
	var lock io.Closer
	var err error
	for range lockTries { // who only looks whether it runs has the lock for a moment
		if lock, err = durable.Lock(b.path(name, lockFile), false); !errors.Is(err, unix.EWOULDBLOCK) {
			break
		}
		time.Sleep(lockPause)
	}
	switch {
	case errors.Is(err, unix.EWOULDBLOCK):
		return nil, &BusyError{name}
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%w: %q", ErrNone, name)
	case err != nil:
		return nil, fmt.Errorf("the routine %s can't be locked: %w", name, err)
	}
	return lock, nil
}

// Pace reads when a routine may run.
func (b *Book) Pace(name string) (p Pace, err error) {
	raw, err := os.ReadFile(b.path(name, paceFile))
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &p)
	}
	if err != nil {
		return p, fmt.Errorf("whether %s is paused can't be read: %w; pause or resume it anew", name, err)
	}
	return p, nil
}

// SetPace changes when a routine may run.
func (b *Book) SetPace(name string, change func(*Pace)) error {
	err := changed(b.path(name, paceFile), func() ([]byte, error) {
		p, _ := b.Pace(name) // what can't be read is written anew
		change(&p)
		raw, err := json.MarshalIndent(p, "", "  ")
		return append(raw, '\n'), err
	})
	if err != nil {
		return fmt.Errorf("the pace of %s can't be kept: %w", name, err)
	}
	return nil
}

// Note adds what became of a routine to its history, and returns once that will outlive a power cut.
func (b *Book) Note(name string, entries ...Entry) error {
	var lines bytes.Buffer
	for _, e := range entries {
		e.Log = e.Log[max(0, len(e.Log)-mostLog):]
		line, err := json.Marshal(e)
		if err != nil {
			return err
		}
		lines.Write(append(line, '\n'))
	}
	if err := durable.Append(b.path(name, historyFile), lines.Bytes()); err != nil {
		return fmt.Errorf("the history of %s can't be kept: %w", name, err)
	}
	return nil
}

// History is what became of a routine, the oldest first. Lines that can't be read are counted.
func (b *Book) History(name string) (out []Entry, unread int, err error) {
	f, err := os.Open(b.path(name, historyFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	if st, err := f.Stat(); err == nil && st.Size() > mostHistory { // the newest part of it
		if _, err := f.Seek(-mostHistory, io.SeekEnd); err != nil {
			return nil, 0, err
		}
	}
	raw, err := io.ReadAll(io.LimitReader(f, mostHistory))
	if err != nil {
		return nil, 0, fmt.Errorf("the history of %s can't be read: %w", name, err)
	}
	for line := range bytes.SplitSeq(raw, []byte{'\n'}) {
		var e Entry
		switch {
		case len(bytes.TrimSpace(line)) == 0:
		case json.Unmarshal(units.VisibleJSON(line), &e) != nil || e.Ended.IsZero():
			unread++
		default:
			out = append(out, e)
		}
	}
	slices.SortStableFunc(out, func(a, b Entry) int { return a.Ended.Compare(b.Ended) })
	return out, unread, nil
}
