package restore

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Notes is where a restore writes down how far it came. The last note counts.
type Notes interface {
	// Load gives the note; nil when there is none.
	Load() ([]byte, error)
	// Save replaces the note, and returns once it will outlive a power cut.
	Save([]byte) error
	Clear() error
}

// Progress is how far a restore came.
type Progress struct {
	// Of names what is written where.
	Of string `json:"of"`
	// Upto is the byte of the target before which everything is written and flushed, but for its first MiB.
	Upto int64 `json:"upto"`
	// Done is how much of what is to be written was dealt with, of Total; in bytes, both 0 where an older version
	// wrote the note.
	Done  int64 `json:"done,omitempty"`
	Total int64 `json:"total,omitempty"`
	// Later are stretches before it that the source didn't give at the first try.
	Later span.Set `json:"later"`
	// Bad are the places that the target couldn't keep, Missing those that the source couldn't give; both on the
	// target.
	Bad     span.Set  `json:"bad"`
	Missing span.Set  `json:"missing"`
	When    time.Time `json:"when"`
}

// GoOn has the plan write down how far it comes, and looks whether an earlier run of the same plan, from the same
// source (by origin, a name that changes when the source does) onto the same target, was cut off: then it goes on from
// there.
func (p *Restore) GoOn(notes Notes, origin string) error {
	p.notes, p.key = notes, p.name(origin)
	raw, err := notes.Load()
	if err != nil || raw == nil {
		return err
	}
	var was Progress
	if json.Unmarshal(raw, &was) != nil || was.Of != p.key || was.Upto <= head || was.Upto > p.Disk.Size() {
		return nil // of something else, or of no use
	}
	d, err := disk.Open(p.Target.Path, p.Target.Identity)
	if err != nil {
		return err
	}
	defer d.Close()
	p.came, p.found = was, p.headAsLeft(d)
	return nil
}

// Before is the earlier run that this one goes on from; nil when there is none.
func (p *Restore) Before() *Progress {
	if !p.found {
		return nil
	}
	was := p.came
	return &was
}

// Percent is how much of what is to be written onto a target of size bytes was written.
func (p *Progress) Percent(size int64) int64 {
	if p.Total > 0 {
		return p.Done * 100 / p.Total
	}
	return p.Upto * 100 / max(1, size)
}

// CutOff says how far a restore came that was cut off, by its note; false when there is none. Whether it can go on is
// found out when the same is planned again.
func CutOff(notes Notes) (Progress, bool) {
	raw, err := notes.Load()
	var p Progress
	if err != nil || raw == nil || json.Unmarshal(raw, &p) != nil || p.Upto <= head {
		return Progress{}, false
	}
	return p, true
}

// Anew has everything written again, whatever an earlier run did.
func (p *Restore) Anew() { p.came, p.found = Progress{}, false }

// Bad are the places that the target couldn't keep, Missing those that the source couldn't give: zeros are there
// instead. Both count in bytes of the target and are complete once the run has ended.
func (p *Restore) Bad() span.Set { return p.came.Bad }

// Missing is described with Bad.
func (p *Restore) Missing() span.Set { return p.came.Missing }

// name is different for every plan that writes something else.
func (p *Restore) name(origin string) string {
	h := blake3.New()
	fmt.Fprintf(h, "%s\n%s\n%d %d\n", origin, p.Target.Identity.Key(), p.Disk.Size(), p.Disk.SectorSize())
	fmt.Fprintf(h, "%q\n", p.Order.Wish.Gaps.Text)
	for _, m := range p.Layout.Moves {
		fmt.Fprintf(h, "%s %d\n", m.From, m.To)
	}
	for _, q := range p.Disk.Patches() {
		fmt.Fprintf(h, "%s\n", q.Span())
		h.Write(q.Bytes())
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

func (p *Restore) save() error {
	if p.notes == nil {
		return nil
	}
	p.came.Of, p.came.When = p.key, time.Now()
	b, err := json.Marshal(p.came)
	if err != nil {
		return err
	}
	return p.notes.Save(b)
}

// headAsLeft says whether the target's first MiB is as a run leaves it that was cut off: cleared, or begun at the very
// end. Whoever used the target since wrote there.
func (p *Restore) headAsLeft(d disk.Device) bool {
	have, want := make([]byte, min(head, d.Size())), make([]byte, min(head, d.Size()))
	if disk.ReadFull(d, have, 0) != nil || disk.ReadFull(p.Disk, want, 0) != nil {
		return false
	}
	for i, c := range have {
		if c != 0 && c != want[i] {
			return false
		}
	}
	return true
}
