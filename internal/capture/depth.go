package capture

import "time"

const (
	// mostDepth is how many blocks of a disk are read at the same time at the most.
	mostDepth = 8
	// gain is from which ratio on twice as many at the same time are worth it.
	gain = 1.15
	// trial is how many bytes are read with each number, settled until it is tried anew.
	trial   = 32 << 20
	settled = 4 << 30
	never   = 1 << 62
)

// depth finds out how many reads at the same time a disk likes, by how much it gives: it begins with one, which is
// what rotating disks like, and doubles as long as that brings more. Only what was read while the disk was waited for
// counts: where it isn't, one is enough.
type depth struct {
	now         int
	before      float64 // bytes a second with half as many; 0 with one
	bytes, left int64   // read with this number; to be read until that is looked at
	busy        time.Duration
	waited      int64 // bytes of those that were read while the disk was waited for
	done        bool  // the number was found
}

// newDepth begins to find out, or stays with a number that is known.
func newDepth(known int) *depth {
	if known > 0 {
		return &depth{now: known, done: true, left: never}
	}
	return &depth{now: 1, left: trial}
}

// gave hears of bytes that came, for how long of the time since it heard last something was being read, and whether it
// was the disk that was waited for.
func (d *depth) gave(bytes int64, busy time.Duration, waited bool) {
	d.bytes += bytes
	d.busy += busy
	if waited {
		d.waited += bytes
	}
	if d.bytes < d.left {
		return
	}
	rate := float64(d.bytes) / max(d.busy, time.Microsecond).Seconds()
	hungry := d.waited*2 > d.bytes
	d.bytes, d.busy, d.waited = 0, 0, 0
	switch {
	case d.done: // disks change their pace from place to place
		d.now, d.before, d.done, d.left = 1, 0, false, trial
	case !hungry, rate < gain*d.before:
		d.settle(max(1, d.now/2))
	case d.now == mostDepth:
		d.settle(mostDepth)
	default:
		d.now, d.before, d.left = 2*d.now, rate, trial
	}
}

// settle stays with a number for a while.
func (d *depth) settle(n int) {
	d.now, d.done, d.left = n, true, settled
}

// failed hears that a read failed: a failing drive is read at one place at a time.
func (d *depth) failed() { *d = *newDepth(1) }
