package keeping

import (
	"bufio"
	"errors"
	"fmt"
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

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend/backendtest"
)

// seeds is how many random moments are tried; TWINSHELF_SEEDS asks for more.
func seeds(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("TWINSHELF_SEEDS")); err == nil {
		return n
	}
	return usual
}

// life does everything that writes to a shelf, over and over, and says what it has promised.
func life(t testing.TB, s *shelf.Shelf, other *shelf.Shelf, r *rand.Rand, say func(string, ...any)) {
	for {
		seed := r.Uint64N(6)
		c, err := s.Begin(t.Context(), "Kiosk")
		if err != nil {
			say("error %v", err)
			return
		}
		tw := shelftest.TwinOf(t, c, "Kiosk", shelftest.Content(12, seed), time.Now())
		if r.IntN(6) == 0 {
			c.Abort(t.Context())
			continue
		}
		if err := c.Commit(t.Context(), tw); err != nil {
			say("error %v", err)
			return
		}
		say("kept %s %d", tw.ID, seed)
		if err := keep(t, s, other, tw, seed, r, say); err != nil {
			say("error %v", err)
			return
		}
	}
}

// keep does what is done with a shelf beside captures.
func keep(t testing.TB, s, other *shelf.Shelf, tw *shelf.Twin, seed uint64, r *rand.Rand,
	say func(string, ...any)) error {
	if twins, _ := s.Twins(t.Context()); len(twins) > 3 {
		gone := twins[len(twins)-1-r.IntN(2)]
		say("dropping %s", gone.ID)
		if err := s.Discard(t.Context(), gone, "life"); err != nil {
			return err
		}
	}
	if r.IntN(3) == 0 {
		if _, err := GiveBack(t.Context(), s, nil); err != nil {
			return err
		}
	}
	if r.IntN(3) == 0 && other != nil {
		if _, err := Carry(t.Context(), s, other, []*shelf.Twin{tw}, nil); err != nil {
			return err
		}
		say("carried %s %d", tw.ID, seed)
	}
	if r.IntN(8) > 0 {
		return nil
	}
	_, err := Check(t.Context(), s, CheckKind{Share: 0.5, Mend: true}, nil)
	return err
}

// TestCrashChild is the process that TestKilledAtAnyMoment kills.
func TestCrashChild(t *testing.T) {
	dir := os.Getenv("TWINSHELF_CRASH")
	if dir == "" {
		return // only as a child
	}
	seed, err := strconv.ParseUint(os.Getenv("TWINSHELF_SEED"), 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	var both []*shelf.Shelf
	for _, n := range []string{"oak", "elm"} {
		s, err := shelf.Open(t.Context(), filepath.Join(dir, n), nil)
		if err != nil {
			t.Fatal(err)
		}
		s.LimitPacks(300 << 10)
		both = append(both, s)
	}
	life(t, both[0], both[1], rand.New(rand.NewPCG(seed, 7)), func(f string, a ...any) {
		fmt.Printf("\n"+f+"\n", a...)
	})
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
func whole(t *testing.T, s *shelf.Shelf, want map[string]uint64, what string) {
	t.Helper()
	twins, problems := s.Twins(t.Context())
	if len(problems) > 0 {
		t.Errorf("%s: %v", what, problems)
	}
	for id, seed := range want {
		i := slices.IndexFunc(twins, func(t *shelf.Twin) bool { return t.ID == id })
		if i < 0 {
			t.Errorf("%s: the twin %s is gone", what, id)
			continue
		}
		shelftest.Holds(t, s, twins[i], shelftest.Content(12, seed))
	}
	rep, err := Check(t.Context(), s, CheckKind{}, nil)
	if err != nil || len(rep.Damage) > 0 || rep.Lost > 0 {
		t.Errorf("%s: %v %+v", what, err, rep)
	}
}

// TestKilledAtAnyMoment kills a process that captures, discards, gives back space, carries and checks.
func TestKilledAtAnyMoment(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []string{"oak", "elm"} {
		shelftest.In(t, filepath.Join(dir, n), nil).Close()
	}
	r := rand.New(rand.NewPCG(11, 13))
	p := promises{kept: map[string]uint64{}, carried: map[string]uint64{}}
	for seed := range seeds(15) {
		killed(t, dir, seed, time.Duration(20+r.IntN(250))*time.Millisecond, &p)
		for name, want := range map[string]map[string]uint64{"oak": p.kept, "elm": p.carried} {
			s, err := shelf.Open(t.Context(), filepath.Join(dir, name), nil)
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

// killed starts a process, hears what it promises, and kills it after a while.
func killed(t *testing.T, dir string, seed int, after time.Duration, p *promises) {
	t.Helper()
	c := exec.Command(os.Args[0], "-test.run=^TestCrashChild$", "-test.v")
	c.Env = append(os.Environ(), "TWINSHELF_CRASH="+dir, fmt.Sprint("TWINSHELF_SEED=", seed))
	hearUntilKilled(t, c, after, p)
	if p.err != "" {
		t.Fatalf("seed %d: %s", seed, p.err)
	}
}

// hearUntilKilled starts a process, hears what it promises, and kills it after a while.
func hearUntilKilled(t *testing.T, c *exec.Cmd, after time.Duration, p *promises) {
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		t.Error(err)
		return
	}
	var heard sync.WaitGroup
	heard.Go(func() {
		for sc := bufio.NewScanner(out); sc.Scan(); {
			p.hear(sc.Text())
		}
	})
	time.Sleep(after)
	_ = c.Process.Kill()
	heard.Wait()
	_ = c.Wait()
}

// TestStorms lets the power fail, the disk fill up and calls fail at every kind of moment: reads go stale and end
// early, and puts that report a failure may have happened.
func TestStorms(t *testing.T) {
	n := seeds(20)
	for seed := range n {
		storms(t, seed)
		if t.Failed() {
			t.Fatalf("seed %d", seed)
		}
	}
}

// weather is what goes wrong with one process.
func weather(r *rand.Rand) backendtest.Weather {
	w := backendtest.Weather{DieAt: 1 + r.IntN(500)}
	switch r.IntN(5) {
	case 0:
		w.FailAt, w.Err = 1+r.IntN(400), syscall.ENOSPC
	case 1:
		w.FailAt, w.Err = 1+r.IntN(400), syscall.EIO
	case 2:
		w.HappenAt = 1 + r.IntN(60)
	case 3:
		w.Stale, w.Short = 20, 7
	}
	return w
}

func storms(t *testing.T, seed int) {
	r := rand.New(rand.NewPCG(uint64(seed), 99))
	b := backendtest.NewStorm(r)
	first, err := shelf.CreateAt(t.Context(), b.Process(), store.New{Name: "Oak", BlockSize: shelftest.Block})
	if err != nil {
		t.Fatal(err)
	}
	first.Close()
	kept := map[string]uint64{}
	for range 6 {
		s, err := shelf.OpenAt(t.Context(), b.Process(), nil)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		s.LimitPacks(200 << 10)
		b.Set(weather(r))
		for range 20 {
			if !stormyDay(t, s, r, kept) {
				break
			}
		}
		b.Crash()
		again, err := shelf.OpenAt(t.Context(), b.Process(), nil)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		whole(t, again, kept, fmt.Sprint("seed ", seed))
		if t.Failed() {
			return
		}
	}
}

// stormyDay is one round; errors are part of the weather.
func stormyDay(t *testing.T, s *shelf.Shelf, r *rand.Rand, kept map[string]uint64) bool {
	seed := r.Uint64N(6)
	c, err := s.Begin(t.Context(), "Kiosk")
	if err != nil {
		return false // it is dead, or left its own lock behind
	}
	var problem error
	tw := shelftest.Describe(shelftest.Content(12, seed), "Kiosk", time.Now(), func(b []byte) store.Name {
		n, _, err := c.Put(t.Context(), b)
		problem = errors.Join(problem, err)
		return n
	})
	if problem != nil {
		c.Abort(t.Context())
		return true
	}
	if c.Commit(t.Context(), tw) != nil {
		return true
	}
	kept[tw.ID] = seed
	if twins, _ := s.Twins(t.Context()); len(twins) > 3 {
		gone := twins[len(twins)-1-r.IntN(2)]
		delete(kept, gone.ID)
		_ = s.Discard(t.Context(), gone, "life")
	}
	if r.IntN(3) == 0 {
		_, _ = GiveBack(t.Context(), s, nil)
	}
	return true
}
