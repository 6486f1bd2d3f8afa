package ready

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// Way is how a disk is erased.
type Way string

const (
	// Quick clears the table and all signatures, so that nothing is recognised any more.
	Quick Way = "quick"
	// Zeros overwrites everything with zeros.
	Zeros Way = "zeros"
	// Random overwrites everything with random bytes.
	Random Way = "random"
	// Discard tells the drive that nobody needs anything any more.
	Discard Way = "discard"
	// Check writes every sector and reads it back, for a drive that nobody knows yet.
	Check Way = "check"
)

// Medium is what the choice of a way depends on.
type Medium struct {
	Rotational bool
	Discards   bool // the drive can be told what is no longer needed
	Image      bool // a file stands for the disk
}

// Ways are the ways that a medium offers.
func Ways(m Medium) []Way {
	out := []Way{Quick, Zeros, Random}
	if m.Discards {
		out = append(out, Discard)
	}
	return append(out, Check)
}

// Title names the way by where the drive goes next.
func (w Way) Title() string {
	switch w {
	case Quick:
		return "quick, for a drive that stays in the house"
	case Zeros:
		return "zeros everywhere, for a drive that leaves the house"
	case Random:
		return "random bytes everywhere, for a drive that leaves the house"
	}
	if w == Check {
		return "check of every sector, for a drive that is to be trusted"
	}
	return "discard, for a flash drive that goes on to other work"
}

// About says honestly what a way means for a medium.
func (w Way) About(m Medium) string {
	const spare = " Flash keeps spare areas and worn-out cells that no write from outside reaches: what lies there " +
		"may stay. The drive's own erase command, or destroying it, goes further."
	switch w {
	case Quick:
		return "Clears the table and everything by which a file system, RAID or volume group is recognised. The " +
			"contents stay on the medium and can be found by whoever looks for them; a keepsake makes it possible " +
			"to go back."
	case Zeros:
		if m.Rotational {
			return "Overwrites every sector once and reads it back. On a rotating drive nothing of the old contents " +
				"can be read afterwards by ordinary means; sectors that the drive has already replaced by spare " +
				"ones are not reached."
		}
		return "Overwrites every sector once and reads it back." + spare
	case Random:
		if m.Rotational {
			return "Like zeros, and nobody can tell afterwards which stretches were ever in use. The read-back " +
				"proves that the drive stored what was sent."
		}
		return "Like zeros, but the drive can't save itself the work by noting that all is zero; every cell that it " +
			"shows is really written. The read-back proves it." + spare
	}
	if w == Check {
		return "Writes random bytes, others for every place, onto every sector, then reads all of them back: a " +
			"sector " +
			"that doesn't keep what it is given is found, and so is a drive that has less room than it says. " +
			"Says where it " +
			"was slow. What was on the disk is gone afterwards."
	}
	text := "Tells the drive that no sector is needed any more: done in seconds, and the drive is as fast as new. " +
		"Most flash drives then show zeros, but when the cells are really wiped is the drive's own affair, and " +
		"nothing proves it."
	if m.Rotational {
		text += " On a rotating drive it usually changes nothing on the platters."
	}
	return text
}

// Erase is an erasing that hasn't begun. Quick ones are a Plan: see QuickErase.
type Erase struct {
	Target disk.Target
	Way    Way
	Medium Medium
	Loses  []string
	device disk.Device
	plan   *Plan
	// out and back are how fast it was written and read back, region by region, since it was begun.
	out, back *careful.Rates
	begun     time.Time
}

// NewErase plans the erasing of a surveyed disk. free is how much room the file system has
// on which an image file lies, in bytes; it counts for nothing else.
func NewErase(ctx context.Context, s *survey.Survey, target disk.Target, way Way, m Medium,
	free int64) (*Erase, error) {
	if !slices.Contains(Ways(m), way) {
		return nil, fmt.Errorf("this disk can't be erased by %s; choose %s", way, units.Choices(Ways(m)))
	}
	e := &Erase{Target: target, Way: way, Medium: m, device: s.Device}
	for _, a := range s.Parts() {
		e.Loses = append(e.Loses, describeOld(&a))
	}
	e.Loses = append(e.Loses, s.Unnamed()...)
	if m.Image && (way == Random || way == Check) && target.Identity.Size > free {
		return nil, fmt.Errorf("random bytes would fill the image file to its %s, and its folder has room for %s; "+
			"erase it with zeros, which takes no room", units.Bytes(target.Identity.Size), units.Bytes(free))
	}
	if way != Quick {
		return e, nil
	}
	step := clearing(s)
	p := &Plan{Target: target, Steps: []Step{step}, Goes: e.Loses, device: s.Device, old: s.Parts(), why: "quick erase"}
	var err error
	if p.planned, err = disk.NewOverlay(s.Device, step.Patches, s.Device.Size()); err != nil {
		return nil, err
	}
	if err := p.rememberHeads(); err != nil {
		return nil, err
	}
	e.plan = p
	return e, nil
}

// Assumed rates for the estimate, in bytes per second.
const (
	rotatingRate = 140 * units.MB
	flashRate    = 400 * units.MB
)

const (
	phaseEnds    = "Clear both ends"
	phaseOver    = "Overwrite"
	phaseDiscard = "Discard"
	phaseSample  = "Look at samples"
)

// Phases are the names of the phases.
func (e *Erase) Phases() []string {
	switch e.Way {
	case Quick:
		return e.plan.Phases()
	case Discard:
		return []string{phaseDiscard, phaseEnds, phaseFlush, phaseSample}
	}
	return []string{phaseEnds, phaseOver, phaseFlush, phaseRead}
}

// Estimate is how long it will probably take.
func (e *Erase) Estimate() time.Duration {
	if e.Way == Quick {
		return e.plan.Estimate()
	}
	return e.Expected().Total()
}

// Expected is how long each phase will probably take.
func (e *Erase) Expected() run.Expected {
	switch e.Way {
	case Quick:
		return e.plan.Expected()
	case Discard:
		return run.Expected{10 * time.Second}
	}
	rate := float64(flashRate)
	if e.Medium.Rotational {
		rate = rotatingRate
	}
	over := time.Duration(float64(e.Target.Identity.Size) / rate * float64(time.Second))
	return run.Expected{0, over, 0, over}
}

// CancelWords say what state a cancelled run leaves.
func (e *Erase) CancelWords() string {
	switch e.Way {
	case Quick:
		return "Cancelled, signatures may be cleared in part; the keepsake puts them back."
	case Discard:
		return "Cancelled, what was discarded so far is gone; the rest is still there."
	}
	return "Cancelled, the disk has no table any more and is overwritten up to where the run came; after that its " +
		"old contents can still be read."
}

// ErrNotErased means that stretches couldn't be overwritten.
var ErrNotErased = errors.New("not everything could be erased")

// Run erases through the guard. The keepsake is nil for all ways but Quick.
func (e *Erase) Run(rc *run.Context, guard *disk.Guard, keep Keepsakes) (*Keepsake, error) {
	if e.Way == Quick {
		return e.plan.Run(rc, guard, keep)
	}
	w, err := guard.Open(e.Target)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	rc.Rails(0, w.Size())
	if e.Way == Discard {
		return nil, e.discard(rc, w)
	}
	return nil, e.overwrite(rc, w)
}

// ends clears the first and last MiB, so that nothing is recognised from the first moment on.
func ends(rc *run.Context, w disk.Writable) error {
	n := min(edge, w.Size())
	rc.Phase(phaseEnds, 2*n)
	for _, sp := range []span.Span{span.At(0, n), {Start: w.Size() - n, End: w.Size()}} {
		if err := disk.WriteZeros(w, sp, nil); err != nil {
			return err
		}
		if err := rc.Step(n); err != nil {
			return err
		}
	}
	return w.Sync()
}

const (
	chunk    = 4 * units.MiB
	small    = 4 * units.KiB
	mostBad  = 1024 // small stretches that can't be written, before the disk is given up
	samples  = 256
	discards = units.GiB // discarded at a time
	// syncEvery keeps what is shown as written and what is on the disk together, in bytes.
	syncEvery = 512 * units.MiB
)

// stream gives the bytes that stand at any place: zeros, or random ones made from a seed,
// so that the reading back knows them.
type stream struct {
	block cipher.Block // nil for zeros
	buf   []byte
	hole  span.Span // of the disk, that was found last
}

// inHole says whether a stretch is known to be zeros without reading; the hole may be far larger.
func (s *stream) inHole(d disk.Device, sp span.Span) bool {
	if !s.hole.Covers(sp) {
		s.hole = disk.HoleFrom(d, sp.Start)
	}
	return s.hole.Covers(sp)
}

func newStream(w Way) (*stream, error) {
	s := &stream{buf: make([]byte, chunk)}
	if w == Zeros {
		return s, nil
	}
	a, b := random16(), random16()
	var err error
	s.block, err = aes.NewCipher(append(a[:], b[:]...))
	return s, err
}

// fill makes the bytes for byte off, which is a multiple of 16, on.
func (s *stream) fill(p []byte, off int64) {
	clear(p)
	if s.block == nil {
		return
	}
	var iv [16]byte
	binary.BigEndian.PutUint64(iv[8:], uint64(off/16))
	cipher.NewCTR(s.block, iv[:]).XORKeyStream(p, p)
}

// write puts the stream's bytes onto a stretch of up to a chunk. Zeros leave holes as they are.
func (s *stream) write(w disk.Writable, sp span.Span) error {
	if s.block == nil {
		return disk.WriteZeros(w, sp, nil)
	}
	b := s.buf[:sp.Len()]
	s.fill(b, sp.Start)
	_, err := w.WriteAt(b, sp.Start)
	return err
}

func (e *Erase) overwrite(rc *run.Context, w disk.Writable) error {
	if err := ends(rc, w); err != nil {
		return e.gave(0, err)
	}
	src, err := newStream(e.Way)
	if err != nil {
		return err
	}
	e.begun, e.out, e.back = time.Now(), careful.NewRates(w.Size()), careful.NewRates(w.Size())
	var bad span.Set
	rc.Phase(phaseOver, w.Size())
	for sp := range disk.Chunks(span.Span{End: w.Size()}, chunk) {
		begun := time.Now()
		if err := writeChunk(rc, w, src, sp, &bad); err != nil {
			return e.gave(sp.Start, err)
		}
		e.out.Add(sp, time.Since(begun))
		if sp.End%syncEvery == 0 {
			e.flush(rc, w)
		}
	}
	rc.Phase(phaseFlush, 0)
	e.flush(rc, w)
	if err := settle(rc, w); err != nil {
		return e.gave(w.Size(), err)
	}
	src.hole = span.Span{}
	if err := e.verify(rc, w, src, &bad); err != nil {
		return err
	}
	if e.Way == Check {
		return e.checked(rc, w, bad)
	}
	if n := bad.Total(); n > 0 {
		return fmt.Errorf("%w: %s in %s can't be overwritten or read back, the first at byte %d; what lies there "+
			"stays, so don't let this drive out of the house", ErrNotErased, units.Bytes(n),
			units.Plural(bad.Count(), "place"), bad.Bounds().Start)
	}
	return nil
}

// checked ends a check: nothing that could be taken for a table stays at the ends, and what was found is said.
func (e *Erase) checked(rc *run.Context, w disk.Writable, bad span.Set) error {
	if err := ends(rc, w); err != nil {
		return err
	}
	f := Found{Bytes: w.Size(), Took: time.Since(e.begun) / 2, Bad: bad, Slow: e.out.Slow().Union(e.back.Slow())}
	for _, words := range f.Words("written and read back") {
		rc.Note("%s", words)
	}
	if bad.Empty() {
		return nil
	}
	return fmt.Errorf("%w: %s don't keep what is written, the first at byte %d; don't trust this drive with anything",
		ErrSurface, units.Bytes(bad.Total()), bad.Bounds().Start)
}

// gave says how far the erasing came.
func (e *Erase) gave(at int64, err error) error {
	return fmt.Errorf("%w; overwritten up to byte %d (%s of %s); after that the old contents can still be read, "+
		"and no table is left: erase again", err, at, units.Bytes(at), units.Bytes(e.Target.Identity.Size))
}

// flush sends what the kernel still holds to the disk. When the disk refuses some of it,
// nobody knows which: the reading back finds out.
func (e *Erase) flush(rc *run.Context, w disk.Writable) {
	if err := w.Sync(); err != nil {
		rc.Note("%v: the reading back will show which places weren't written", err)
	}
}

// writeChunk writes a stretch; where that fails, in small steps, noting what can't be written.
func writeChunk(rc *run.Context, w disk.Writable, src *stream, sp span.Span, bad *span.Set) error {
	if src.block == nil && src.inHole(w, sp) {
		rc.MarkWritten(sp, run.Finished)
		return rc.Skip(sp.Len())
	}
	if src.write(w, sp) == nil {
		rc.MarkWritten(sp, run.Finished)
		return rc.Step(sp.Len())
	}
	for part := range disk.Chunks(sp, small) {
		if err := src.write(w, part); err != nil {
			bad.Add(part)
			rc.MarkWritten(part, run.Unreadable)
			if bad.Total() > mostBad*small {
				return fmt.Errorf("too many places can't be written, given up: %w", err)
			}
		}
	}
	return rc.Step(sp.Len())
}

// verify reads everything back but what is known to be bad.
func (e *Erase) verify(rc *run.Context, w disk.Device, src *stream, bad *span.Set) error {
	rc.Phase(phaseRead, w.Size())
	have, want := make([]byte, chunk), src.buf
	for sp := range disk.Chunks(span.Span{End: w.Size()}, chunk) {
		if src.block == nil && src.inHole(w, sp) {
			if err := rc.Skip(sp.Len()); err != nil {
				return err
			}
			continue
		}
		h, n := have[:sp.Len()], want[:sp.Len()]
		src.fill(n, sp.Start)
		begun := time.Now()
		err := disk.ReadFull(w, h, sp.Start)
		e.back.Add(sp, time.Since(begun))
		if err != nil || differAt(h, n) >= 0 {
			for part := range disk.Chunks(sp, small) {
				h, n := have[:part.Len()], n[part.Start-sp.Start:part.End-sp.Start]
				if bad.Covers(part) {
					continue
				}
				if err := disk.ReadFull(w, h, part.Start); err != nil || differAt(h, n) >= 0 {
					bad.Add(part)
					rc.MarkWritten(part, run.Unreadable)
				}
			}
			if bad.Total() > mostBad*small {
				return fmt.Errorf("%w: more than %d places don't hold what was written, the last at byte %d; the "+
					"drive can't be relied on, don't let it out of the house", ErrNotErased, mostBad, sp.Start)
			}
		}
		if err := rc.Step(sp.Len()); err != nil {
			return fmt.Errorf("%w; everything is overwritten, read back up to byte %d", err, sp.End)
		}
	}
	return nil
}

// discarder is a disk that can be told what is no longer needed.
type discarder interface {
	disk.Writable
	Discard(span.Span) error
}

func (e *Erase) discard(rc *run.Context, w discarder) error {
	rc.Phase(phaseDiscard, w.Size())
	for sp := range disk.Chunks(span.Span{End: down(w.Size(), int64(w.SectorSize()))}, discards) {
		if err := w.Discard(sp); err != nil {
			return fmt.Errorf("%w; discarded up to byte %d: erase it with zeros instead", err, sp.Start)
		}
		rc.MarkWritten(sp, run.Finished)
		if err := rc.Step(sp.Len()); err != nil {
			return fmt.Errorf("%w; what was discarded up to byte %d is gone, the rest is still there", err, sp.End)
		}
	}
	if err := ends(rc, w); err != nil {
		return err
	}
	rc.Phase(phaseFlush, 0)
	if err := settle(rc, w); err != nil {
		return err
	}
	rc.Phase(phaseSample, samples*small)
	zero := 0
	b := make([]byte, min(small, w.Size()))
	for i := range int64(samples) {
		if err := disk.ReadFull(w, b, min(down(w.Size()/samples*i, small), w.Size()-int64(len(b)))); err != nil {
			return err
		}
		if blank(b) {
			zero++
		}
		if err := rc.Step(int64(len(b))); err != nil {
			return err
		}
	}
	if zero < samples {
		rc.Note("%d of %d samples still show other bytes than zeros: this drive doesn't hide what was discarded; "+
			"erase it with zeros or random bytes before it leaves the house", samples-zero, samples)
	} else {
		rc.Note("all %d samples read as zeros", samples)
	}
	return nil
}
