package careful

import (
	"errors"

	"twinshelf/internal/disk"
)

// MostStalls is how often a drive may hang while a capture or a copy reads again what it didn't give; a rescue goes on.
const MostStalls = 8

// Budget bounds how often a drive hangs during work that isn't a rescue.
type Budget struct {
	Stalls int
}

// Failed is what a Fetch gives for a read that failed: a *Failed, and the error itself where the drive is gone or hung
// once too often.
func (b *Budget) Failed(at int64, err error) error {
	if disk.Gone(err) {
		return err
	}
	if errors.Is(err, disk.ErrStalled) {
		if b.Stalls++; b.Spent() {
			return err
		}
	}
	return &Failed{at, err}
}

// Spent says whether the drive hung too often.
func (b *Budget) Spent() bool { return b.Stalls > MostStalls }
