package careful

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Attend looks after a drive that other work reads, until end is called: a hot one rests between reads, and one that
// vanishes is waited for. How long a read may take is the drive's own affair (disk.File.SetPatience).
func Attend(ctx context.Context, f *disk.File, o Options) (end func()) {
	a := &attendant{ctx: ctx, drive: NewDrive(f, o)}
	f.AttendBy(a)
	return func() { f.AttendBy(nil) }
}

type attendant struct {
	ctx   context.Context // of the work: reads of a Device bring none
	mu    sync.Mutex
	drive *Drive
}

// Before has a hot drive rest.
func (a *attendant) Before() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.drive.cool(a.ctx)
}

// Vanished waits until the drive is there again.
func (a *attendant) Vanished(cause error) (*disk.File, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.drive.comeBack(a.ctx, cause); err != nil {
		return nil, err
	}
	f, ok := a.drive.dev.(*disk.File)
	if !ok {
		return nil, cause
	}
	a.drive.own = nil // whoever asked owns it
	return f, nil
}

// Witness knows what a drive holds at some places.
type Witness struct {
	places []span.Span
	sums   [][32]byte
}

// ErrChanged means that a drive doesn't hold what it held.
var ErrChanged = errors.New("it doesn't hold what the drive held")

// mostWitnessed is how much of a place is read at once, in bytes.
const mostWitnessed = 1 << 20

// NewWitness reads the places. Those that can't be read say nothing.
func NewWitness(ctx context.Context, dev disk.Device, places []span.Span) (*Witness, error) {
	w := &Witness{}
	buf := make([]byte, mostWitnessed)
	for _, place := range places {
		for sp := range disk.Chunks(place, mostWitnessed) {
			b := buf[:sp.Len()]
			if err := disk.ReadFull(disk.Until(ctx, dev), b, sp.Start); err != nil {
				if ctx.Err() != nil {
					return nil, ctx.Err()
				}
				break
			}
			w.places = append(w.places, sp)
			w.sums = append(w.sums, blake3.Sum256(b))
		}
	}
	return w, nil
}

// ErrUntold means that nothing of a drive could be compared with what it held.
var ErrUntold = errors.New("whether it holds what the drive held can't be told: none of the places could be read")

// Same compares a drive with what it held. Single places that can't be read any more say nothing; where there is none
// that can, it isn't taken for the drive.
func (w *Witness) Same(ctx context.Context, dev disk.Device) error {
	buf := make([]byte, mostWitnessed)
	compared := 0
	for i, sp := range w.places {
		b := buf[:sp.Len()]
		if err := disk.ReadFull(disk.Until(ctx, dev), b, sp.Start); err != nil {
			if ctx.Err() != nil || disk.Gone(err) {
				return err
			}
			continue
		}
		if sum := blake3.Sum256(b); !bytes.Equal(sum[:], w.sums[i][:]) {
			return fmt.Errorf("%w at byte %d", ErrChanged, sp.Start)
		}
		compared++
	}
	if compared == 0 && len(w.places) > 0 {
		return ErrUntold
	}
	return nil
}
