package workshop

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/far"
	"twinshelf/internal/store/pace"
	"twinshelf/internal/units"
)

// Ground is where the objects of a shelf lie: in a folder, or far away (an address). asks are how a
// person is asked while a server is opened.
func Ground(place string, asks far.Asks) (backend.Backend, error) {
	if !far.Is(place) {
		return ground(place), nil
	}
	home, err := homeDir()
	if err != nil {
		return nil, err
	}
	means := far.Means{SSH: filepath.Join(home, ".ssh"), Asks: asks}
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = filepath.Join(home, ".cache")
	}
	means.Cache = filepath.Join(cache, "twinshelf", "far")
	state, err := settings.Load(settings.Dir())
	if err != nil {
		return nil, err
	}
	means.Pace = state.Lines[far.Same(place)]
	means.Count = state.LineCount(far.Same(place))
	return far.Open(place, means)
}

// homeDir is the person's folder; services of the system may have none in their environment.
func homeDir() (string, error) {
	if home, err := os.UserHomeDir(); err == nil {
		return home, nil
	}
	u, err := user.Current()
	if err != nil {
		return "", fmt.Errorf("where keys are can't be told: %w", err)
	}
	return u.HomeDir, nil
}

// openAt opens the shelf in a place.
func openAt(ctx context.Context, asks far.Asks, place string, ask func() ([]byte, error)) (*shelf.Shelf, error) {
	b, err := Ground(place, asks)
	if err != nil {
		return nil, err
	}
	s, err := shelf.OpenAt(ctx, b, ask)
	if err != nil {
		letGo(b)
	}
	return s, err
}

// TryProtection tries out what keeps whoever has the key to a far shelf from destroying it, and remembers the verdict.
func (w *shelves) TryProtection(ctx context.Context, s *shelf.Shelf) (backend.Protection, error) {
	b, can := s.Backend().(backend.Protected)
	if !can {
		return backend.Protection{}, ErrUnprotected
	}
	p, err := b.Protection(ctx)
	if err != nil {
		return p, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return p, w.State.SetVerdict(s.Head().ID, settings.Verdict{Safe: p.Safe, Says: p.Says, When: time.Now()})
}

// FarFacts are what is to be known of a shelf because it lies far away; empty for one that doesn't.
type FarFacts struct {
	Far bool
	// Verdict is what protects it, as it was tried out last; nil where nobody has.
	Verdict *settings.Verdict
	// Line says how much of what may go over the line in a month went; empty where nothing bounds it.
	Line string
	// Left is how much may still go over it this month, in bytes, where something bounds it.
	Left int64
	// Problem is why that can't be told; nil where it can.
	Problem error
}

// FarFacts are those of a shelf.
func (w *shelves) FarFacts(s *shelf.Shelf) (f FarFacts) {
	place := far.Same(s.Place())
	if f.Far = far.Is(place); !f.Far {
		return f
	}
	state, err := settings.Load(w.State.Folder()) // a command may have changed it
	if f.Problem = err; err != nil {
		return f
	}
	if v, tried := state.Verdicts[s.Head().ID]; tried {
		f.Verdict = &v
	}
	if p := state.Lines[place]; p.Month > 0 {
		var used int64
		used, f.Problem = pace.NewMeter(state.LineCount(place), p.Month).Used()
		f.Left = max(0, p.Month-used)
		f.Line = fmt.Sprintf("%s of the %s that may go over the line this month went", units.Bytes(used),
			units.Bytes(p.Month))
	}
	return f
}

// Warns says that so many bytes are more than may still go over the line this month; empty where they aren't.
func (f FarFacts) Warns(bytes int64) string {
	if f.Line == "" || bytes <= f.Left {
		return ""
	}
	return fmt.Sprintf("only %s may still go over the line this month: the work would end there", units.Bytes(f.Left))
}

// ErrUnprotected means that a shelf lies in a folder here.
var ErrUnprotected = errors.New("nothing protects a shelf in a folder here: whoever can write to it can delete it; " +
	"--shelf names a far one")

// BringBack brings back what was deleted or replaced where a far shelf lies, and says how many objects came back; see
// backend.Reviver.
func BringBack(ctx context.Context, address string, asks far.Asks, asOf time.Time) (int, error) {
	b, err := Ground(address, asks)
	if err != nil {
		return 0, err
	}
	defer letGo(b)
	err = errors.ErrUnsupported
	n := 0
	if r, can := b.(backend.Reviver); can {
		n, err = r.BringBack(ctx, asOf, nil)
	}
	if errors.Is(err, errors.ErrUnsupported) {
		err = errors.New("only object storage with versions keeps something of what was deleted there")
	}
	return n, err
}

// letGo ends what a backend keeps open.
func letGo(b backend.Backend) {
	if c, open := b.(interface{ Close() error }); open {
		_ = c.Close() // nothing depends on it
	}
}

// whole is a place as it is remembered: a folder by its whole path, an address as it is.
func whole(place string) (string, error) {
	if far.Is(place) {
		return place, nil
	}
	return filepath.Abs(place)
}
