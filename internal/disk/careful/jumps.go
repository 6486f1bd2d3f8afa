package careful

import "twinshelf/internal/span"

const (
	// firstJump is how far is jumped on from the first bad place, in bytes; each further one in a row doubles it.
	firstJump = 1 << 20
	farthest  = 16 << 30
	// wellBeyond is how many times as far as the last jump there must be nothing bad before jumps begin small again.
	wellBeyond = 4
)

// Jumps are how far reading in order jumps on from bad places: farther with every further one, until a stretch well
// beyond them is good.
type Jumps struct{ jump, landing, good int64 }

// Landing is the byte before which nothing is read.
func (j *Jumps) Landing() int64 { return j.landing }

// Failed notes a read that failed, the first bytes of which may have come. One that was on its way when an earlier one
// failed counts with that.
func (j *Jumps) Failed(sp span.Span) {
	if sp.Start < j.landing {
		return
	}
	j.good = 0
	j.jump = min(farthest, max(firstJump, 2*j.jump))
	j.landing = sp.End + j.jump - firstJump
}

// Gave notes that so many bytes came.
func (j *Jumps) Gave(n int64) {
	if j.good += n; j.good > wellBeyond*j.jump {
		j.jump = 0
	}
}
