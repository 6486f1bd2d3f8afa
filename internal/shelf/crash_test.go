package shelf

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// seeds is how many random moments are tried; TWINSHELF_SEEDS asks for more.
func seeds(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("TWINSHELF_SEEDS")); err == nil {
		return n
	}
	return usual
}

// life does everything that writes to a shelf, over and over, and says what it has promised.
func life(t testing.TB, s *Shelf, other *Shelf, r *rand.Rand, say func(string, ...any)) {
	for {
		seed := r.Uint64N(6)
		blocks := content(12, seed)
		c, err := s.Begin("Kiosk")
		if err != nil {
			say("error %v", err)
			return
		}
		tw := twinOf(t, c, "Kiosk", blocks, time.Now())
		if r.IntN(6) == 0 {
			c.Abort()
			continue
		}
		if err := c.Commit(tw); err != nil {
			say("error %v", err)
			return
		}
		say("kept %s %d", tw.ID, seed)
		if twins, _ := s.Twins(); len(twins) > 3 {
			gone := twins[len(twins)-1-r.IntN(2)]
			say("dropping %s", gone.ID)
			if err := s.Discard(gone, "life"); err != nil {
				say("error %v", err)
				return
			}
		}
		if r.IntN(3) == 0 {
			if _, err := s.GiveBack(context.Background(), false, nil); err != nil {
				say("error %v", err)
				return
			}
		}
		if r.IntN(3) == 0 && other != nil {
			if _, err := Carry(context.Background(), s, other, []*Twin{tw}, nil); err != nil {
				say("error %v", err)
				return
			}
			say("carried %s %d", tw.ID, seed)
		}
		if r.IntN(8) == 0 {
			if _, err := s.Check(context.Background(), CheckKind{Share: 0.5, Mend: true}, nil); err != nil {
				say("error %v", err)
				return
			}
		}
	}
}

// TestCrashChild is the process that TestKilledAtAnyMoment kills.
func TestCrashChild(t *testing.T) {
	dir := os.Getenv("TWINSHELF_CRASH")
	if dir == "" {
		return // only as a child
	}
	seed, _ := strconv.ParseUint(os.Getenv("TWINSHELF_SEED"), 10, 64)
	s, err := Open(filepath.Join(dir, "oak"))
	if err != nil {
		t.Fatal(err)
	}
	other, err := Open(filepath.Join(dir, "elm"))
	if err != nil {
		t.Fatal(err)
	}
	s.packLimit, other.packLimit = 300<<10, 300<<10
	life(t, s, other, rand.New(rand.NewPCG(seed, 7)), func(f string, a ...any) { fmt.Printf("\n"+f+"\n", a...) })
}

// promises are what a process said before it died.
type promises struct {
	kept, carried map[string]uint64
	err           string
}

func (p *promises) hear(line string) {
	w := strings.Fields(line)
	if len(w) < 2 {
		return
	}
	n := uint64(0)
	if len(w) > 2 {
		n, _ = strconv.ParseUint(w[2], 10, 64)
	}
	switch w[0] {
	case "kept":
		p.kept[w[1]] = n
	case "dropping":
		delete(p.kept, w[1])
	case "carried":
		p.carried[w[1]] = n
		for id := range p.carried { // some of them are looked at again
			if len(p.carried) > 20 {
				delete(p.carried, id)
			}
		}
	case "error":
		p.err = line
	}
}

// whole checks that a shelf holds what was promised; others there may be, but whole too.
func whole(t *testing.T, s *Shelf, want map[string]uint64, what string) {
	t.Helper()
	twins, problems := s.Twins()
	if len(problems) > 0 {
		t.Errorf("%s: %v", what, problems)
	}
	for id, seed := range want {
		i := slices.IndexFunc(twins, func(t *Twin) bool { return t.ID == id })
		if i < 0 {
			t.Errorf("%s: the twin %s is gone", what, id)
			continue
		}
		holds(t, s, twins[i], content(12, seed))
	}
	if rep, err := s.Check(context.Background(), CheckKind{}, nil); err != nil || len(rep.Damage) > 0 || rep.Lost > 0 {
		t.Errorf("%s: %v %+v", what, err, rep)
	}
}

// TestKilledAtAnyMoment kills a process that captures, discards, gives back space, carries and checks.
func TestKilledAtAnyMoment(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []string{"oak", "elm"} {
		s, err := Create(filepath.Join(dir, n), n, 64<<10)
		if err != nil {
			t.Fatal(err)
		}
		s.Close()
	}
	r := rand.New(rand.NewPCG(11, 13))
	p := promises{kept: map[string]uint64{}, carried: map[string]uint64{}}
	for seed := range seeds(15) {
		c := exec.Command(os.Args[0], "-test.run=^TestCrashChild$", "-test.v")
		c.Env = append(os.Environ(), "TWINSHELF_CRASH="+dir, fmt.Sprint("TWINSHELF_SEED=", seed))
		out, err := c.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		var heard sync.WaitGroup
		heard.Go(func() {
			for sc := bufio.NewScanner(out); sc.Scan(); {
				p.hear(sc.Text())
			}
		})
		time.Sleep(time.Duration(20+r.IntN(250)) * time.Millisecond)
		_ = c.Process.Kill()
		heard.Wait()
		_ = c.Wait()
		if p.err != "" {
			t.Fatalf("seed %d: %s", seed, p.err)
		}
		for name, want := range map[string]map[string]uint64{"oak": p.kept, "elm": p.carried} {
			s, err := Open(filepath.Join(dir, name))
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			whole(t, s, want, fmt.Sprint("seed ", seed, " ", name))
			s.Close()
		}
		if t.Failed() {
			return
		}
	}
	t.Logf("%d twins stand, %d of those carried were looked at last", len(p.kept), len(p.carried))
}

// storm is a folder that lies until it is asked to sync: bytes and removals that weren't synced
// may be lost, and any call may fail or be the last one.
type storm struct {
	mu      sync.Mutex
	r       *rand.Rand
	files   map[string]*stormFile
	removed map[string]*stormFile
	calls   int
	// at which call what happens: the process dies, or the call fails with err.
	dieAt, failAt int
	err           error
	clock         time.Time
	life          int // of the process that lives now
}

type stormFile struct {
	data    []byte
	synced  int
	changed time.Time
}

// errDead is what every call of a dead process comes to: nothing.
var errDead = errors.New("the process is dead")

func newStorm(r *rand.Rand) *storm {
	return &storm{r: r, files: map[string]*stormFile{}, removed: map[string]*stormFile{}, dieAt: -1, failAt: -1, clock: time.Now()}
}

func (s *storm) call() error {
	s.calls++
	if s.dieAt >= 0 && s.calls >= s.dieAt {
		return errDead
	}
	if s.calls == s.failAt {
		return s.err
	}
	return nil
}

// crash is what a loss of power leaves.
func (s *storm) crash() {
	for _, f := range s.files {
		if lost := len(f.data) - f.synced; lost > 0 {
			keep := s.r.IntN(lost + 1)
			f.data = slices.Clone(f.data[:f.synced+keep])
			for i := f.synced; i < len(f.data); i++ {
				if s.r.IntN(3) == 0 {
					f.data[i] = byte(s.r.Uint32())
				}
			}
			f.synced = len(f.data)
		}
	}
	for name, f := range s.removed {
		if s.files[name] == nil && s.r.IntN(2) == 0 {
			s.files[name] = f
		}
	}
	s.removed = map[string]*stormFile{}
	s.dieAt, s.failAt, s.calls = -1, -1, 0
	s.clock = s.clock.Add(time.Hour) // the locks of the dead are stale
}

func (s *storm) Place() string { return "the storm" }

func (s *storm) ReadFile(name string, limit int64) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.files[name]
	if f == nil {
		return nil, fs.ErrNotExist
	}
	return slices.Clone(f.data[:min(int64(len(f.data)), limit)]), nil
}

type stormReader struct {
	f *stormFile
	s *storm
}

func (r stormReader) ReadAt(p []byte, off int64) (int, error) {
	r.s.mu.Lock()
	defer r.s.mu.Unlock()
	if off >= int64(len(r.f.data)) {
		return 0, io.EOF
	}
	n := copy(p, r.f.data[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
func (r stormReader) Size() int64  { r.s.mu.Lock(); defer r.s.mu.Unlock(); return int64(len(r.f.data)) }
func (r stormReader) Close() error { return nil }

func (s *storm) Open(name string) (Reader, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if f := s.files[name]; f != nil {
		return stormReader{f, s}, nil
	}
	return nil, fs.ErrNotExist
}

type stormWriter struct {
	s *storm
	f *stormFile
}

func (w stormWriter) Write(p []byte) (int, error) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	if err := w.s.call(); err != nil {
		return 0, err
	}
	w.f.data = append(w.f.data, p...)
	return len(p), nil
}

func (w stormWriter) Sync() error {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	if err := w.s.call(); err != nil {
		return err
	}
	w.f.synced = len(w.f.data)
	return nil
}
func (w stormWriter) Close() error { return nil }

func (s *storm) Create(name string) (Writer, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.call(); err != nil {
		return nil, err
	}
	if s.files[name] != nil {
		return nil, fs.ErrExist
	}
	f := &stormFile{changed: s.clock}
	s.files[name] = f
	return stormWriter{s, f}, nil
}

func (s *storm) Rename(from, to string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.call(); err != nil {
		return err
	}
	f := s.files[from]
	if f == nil {
		return fs.ErrNotExist
	}
	f.changed = s.clock
	delete(s.files, from)
	s.files[to] = f
	delete(s.removed, to)
	return nil
}

func (s *storm) Remove(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.call(); err != nil {
		return err
	}
	f := s.files[name]
	if f == nil {
		return fs.ErrNotExist
	}
	delete(s.files, name)
	s.removed[name] = f
	return nil
}

func (s *storm) SyncDir(dir string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.call(); err != nil {
		return err
	}
	for name := range s.removed {
		if name[:strings.LastIndexByte(name, '/')+1] == dir+"/" {
			delete(s.removed, name)
		}
	}
	return nil
}

func (s *storm) List(dir string) ([]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	seen := map[string]bool{}
	for name := range s.files {
		if rest, in := strings.CutPrefix(name, dir+"/"); in {
			first, _, _ := strings.Cut(rest, "/")
			seen[first] = true
		}
	}
	var out []string
	for n := range seen {
		out = append(out, n)
	}
	slices.Sort(out)
	return out, nil
}

func (s *storm) Free() (int64, error) { return 1 << 40, nil }

func (s *storm) Stat(name string) (int64, time.Time, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.files[name]
	if f == nil {
		return 0, time.Time{}, fs.ErrNotExist
	}
	return int64(len(f.data)), f.changed, nil
}

// TestStorms lets the power fail, the disk fill up and calls fail at every kind of moment.
func TestStorms(t *testing.T) {
	n := seeds(20)
	for seed := range n {
		storms(t, seed)
		if t.Failed() {
			t.Fatalf("seed %d", seed)
		}
	}
}

func storms(t *testing.T, seed int) {
	defer func() {
		if t.Failed() {
			t.Logf("seed %d", seed)
		}
	}()
	r := rand.New(rand.NewPCG(uint64(seed), 99))
	b := newStorm(r)
	first := &Shelf{b: b.process(), head: Head{ID: newID() + newID(), Name: "Oak", BlockSize: 64 << 10, Keys: []WrappedKey{}}}
	if err := first.writeHead(); err != nil {
		t.Fatal(err)
	}
	p := promises{kept: map[string]uint64{}, carried: map[string]uint64{}}
	for range 6 {
		s, err := OpenBackend(b.process(), nil)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		s.packLimit = 200 << 10
		b.mu.Lock()
		b.calls = 0
		switch r.IntN(3) {
		case 0:
			b.failAt, b.err = 1+r.IntN(400), syscall.ENOSPC
		case 1:
			b.failAt, b.err = 1+r.IntN(400), syscall.EIO
		}
		b.dieAt = 1 + r.IntN(500)
		b.mu.Unlock()
		storming(t, s, r, &p)
		b.mu.Lock()
		b.crash()
		b.mu.Unlock()
		again, err := OpenBackend(b.process(), nil)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		whole(t, again, p.kept, fmt.Sprint("seed ", seed))
		if t.Failed() {
			return
		}
	}
}

// storming lives on a shelf until its process dies. Failed calls are survived.
func storming(t *testing.T, s *Shelf, r *rand.Rand, p *promises) {
	for range 20 {
		if !life1(s, r, p) {
			return
		}
	}
}

// life1 is one round; errors are part of the weather.
func life1(s *Shelf, r *rand.Rand, p *promises) bool {
	seed := r.Uint64N(6)
	blocks := content(12, seed)
	c, err := s.Begin("Kiosk")
	if err != nil {
		return false // it is dead, or left its own lock behind
	}
	tw, err := twinTry(c, blocks)
	if err != nil {
		c.Abort()
		return true
	}
	if c.Commit(tw) != nil {
		return true
	}
	p.kept[tw.ID] = seed
	if twins, _ := s.Twins(); len(twins) > 3 {
		gone := twins[len(twins)-1-r.IntN(2)]
		delete(p.kept, gone.ID)
		_ = s.Discard(gone, "life")
	}
	if r.IntN(3) == 0 {
		_, _ = s.GiveBack(context.Background(), false, nil)
	}
	return true
}

func twinTry(c *Session, blocks [][]byte) (*Twin, error) {
	var problem error
	tw := describeBlocks(blocks, "Kiosk", time.Now(), func(b []byte) Name {
		n, _, err := c.Put(b)
		problem = errors.Join(problem, err)
		return n
	})
	return tw, problem
}
