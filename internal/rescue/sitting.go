package rescue

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/inside"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

// sitting is a plan at work.
type sitting struct {
	*Plan
	rc       *run.Context
	session  *shelf.Session
	before   *shelf.Twin
	twin     *shelf.Twin
	patients []*patient
	begun    time.Time
	kept     time.Time // when a twin was written last
	told     telling   // see tell
	keptGot  int64     // bytes that were got by then
}

// Run carries the plan out and gives the twin. When it is cancelled or fails, what was read until then is on the shelf
// all the same, unless that is what failed: the twin is given with the error.
func (p *Plan) Run(rc *run.Context) (*shelf.Twin, error) {
	if err := p.Check(rc); err != nil {
		return nil, err
	}
	s := &sitting{Plan: p, rc: rc, before: p.Before(rc), begun: time.Now(), kept: time.Now()}
	session, err := p.Shelf.Begin(rc, p.Machine)
	if err != nil {
		return nil, err
	}
	s.session = session
	s.start()
	err = s.work()
	for _, q := range s.patients {
		q.drive.Close()
	}
	return s.end(err)
}

// start makes the twin of this sitting.
func (s *sitting) start() {
	if s.Now.IsZero() {
		s.Now = s.begun
	}
	s.twin = &shelf.Twin{ID: shelf.NewTwinID(s.Now), Machine: s.Machine, Note: s.Note, Tool: s.Tool, Taken: s.Now,
		Disks: make([]shelf.TwinDisk, len(s.Sources)), Rescue: &shelf.Rescue{ID: store.NewID()}}
	if s.before != nil {
		s.twin.Rescue.ID = s.before.Rescue.ID
		s.twin.Rescue.Sittings = append([]shelf.Sitting(nil), s.before.Rescue.Sittings...)
	}
	s.twin.Rescue.Sittings = append(s.twin.Rescue.Sittings, shelf.Sitting{Begun: s.begun})
}

// work goes over the drives, pass by pass.
func (s *sitting) work() error {
	s.rc.Phase(Look.Words(), 0)
	for i := range s.Sources {
		if err := s.admit(i); err != nil {
			return err
		}
	}
	for _, q := range s.patients {
		s.rc.Rails(q.Device.Size(), 0)
		if err := q.look(s.rc, s.checkpoint); err != nil {
			return s.named(q, err)
		}
	}
	if err := s.checkpoint(); err != nil {
		return err
	}
	if err := s.wish(); err != nil {
		return err
	}
	for pass := Stride; pass <= s.until(); pass++ {
		if err := s.pass(pass); err != nil {
			return err
		}
		if err := s.checkpoint(); err != nil {
			return err
		}
	}
	s.rc.Found(nil) // from here on notes say it
	for i, q := range s.patients {
		if err := s.fill(i, q); err != nil {
			return err
		}
		if len(q.filled) > 0 {
			s.hits(q)
		}
		s.slow(q)
	}
	return s.rc.Err()
}

// wish finds out where the files lie that the person wishes first.
func (s *sitting) wish() error {
	if len(s.First) == 0 {
		return nil
	}
	found := map[string]int{}
	for i, q := range s.patients {
		var err error
		if q.first, err = inside.Lying(s.rc, q.view(s.rc), i, s.First); err != nil {
			return s.named(q, err)
		}
		for _, m := range q.first {
			found[m.Wish] += m.Files
		}
	}
	for _, w := range s.First {
		if n := found[w]; n > 0 {
			s.rc.Note("%s: %s first", w, units.Plural(n, "file"))
		} else {
			s.rc.Note("%s: no file of that name is found, so nothing of it comes first", w)
		}
	}
	return nil
}

func (s *sitting) named(q *patient, err error) error {
	return fmt.Errorf("%s: %w", disk.Sticker(q.Device.Identity()), err)
}

// admit prepares a drive, with what the sitting before got of it.
func (s *sitting) admit(i int) error {
	var base *shelf.Disk
	if s.before != nil {
		var err error
		if base, err = s.Shelf.OpenDisk(s.rc, s.before, i); err != nil {
			return err
		}
	}
	q := newPatient(s.rc, &s.Sources[i], newCanvas(s.Shelf, s.session, base))
	q.canvas.begin(q.Device.Size())
	q.after = s.after
	s.patients = append(s.patients, q)
	if base == nil {
		return nil
	}
	if err := q.recall(s.Shelf, s.before, i); err != nil {
		return s.named(q, err)
	}
	if err := q.same(s.rc, base); err != nil {
		return s.named(q, err)
	}
	return nil
}

// pass goes over all drives once.
func (s *sitting) pass(pass Pass) error {
	total := int64(0)
	for _, q := range s.patients {
		total += toDo(q.count(), pass)
	}
	s.rc.Phase(pass.Words(), total)
	for _, q := range s.patients {
		before, fails := q.count(), q.fails
		if toDo(before, pass) == 0 && !s.Unused {
			continue
		}
		s.rc.Rails(q.Device.Size(), 0)
		s.rc.ShowRead(q.shown())
		if err := s.over(q, pass); err != nil {
			return s.named(q, err)
		}
		s.report(q, pass, before, q.fails-fails)
		if pass == s.until() {
			s.hits(q)
		}
	}
	return nil
}

// toDo is how much a pass has to read, at the most.
func toDo(t tally, pass Pass) int64 {
	switch pass {
	case Stride:
		return t.untouched
	case Narrow:
		return t.doubtful
	}
	return t.untouched + t.doubtful + t.tried
}

// over goes over a drive once, the most precious first.
func (s *sitting) over(q *patient, pass Pass) error {
	for i, l := range q.layers(s.Unused) {
		var err error
		switch pass {
		case Stride:
			if err = q.work.Stride(s.rc, l()); err == nil && i <= len(q.first) {
				q.work.Hasty = true
				err = q.work.Narrow(s.rc, l) // it is so little and so precious that it is worth it
				q.work.Hasty = false
			}
		case Narrow:
			err = q.work.Narrow(s.rc, l)
		case Single:
			err = q.work.Single(s.rc, l, max(1, s.Tries))
		}
		if err == nil {
			err = q.failure
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// of begins a note about a drive: with its name, where there are several.
func (s *sitting) of(q *patient) string {
	if len(s.patients) < 2 {
		return ""
	}
	return q.Device.Identity().Model + ": "
}

// report says what a pass brought, and what is left.
func (s *sitting) report(q *patient, pass Pass, was tally, fails int64) {
	now := q.count()
	if pass == Stride && now.got == now.wanted {
		return // a healthy drive
	}
	words := fmt.Sprintf("%s%s: %s more, %s failed", s.of(q), pass.Words(),
		units.Bytes(now.got-was.got), units.Plural(int(fails), "read"))
	if left := now.wanted - now.got; left > 0 {
		words += fmt.Sprintf("; %s are left (%s of what is used is there)", units.Bytes(left),
			shelf.Share(now.got, now.wanted))
	}
	s.rc.Note("%s", words)
}

// after makes durable what was read, from time to time.
func (s *sitting) after() error {
	if time.Since(s.kept) < s.interval() || s.got() == s.keptGot {
		return nil
	}
	return s.checkpoint()
}

func (s *sitting) interval() time.Duration {
	if s.Every > 0 {
		return s.Every
	}
	return every
}

func (s *sitting) got() (n int64) {
	for _, q := range s.patients {
		n += q.got
	}
	return n
}

// checkpoint lets the twin appear with everything that was read so far. Until all drives are divided there is none.
func (s *sitting) checkpoint() error {
	s.kept, s.keptGot = time.Now(), s.got()
	for i := range s.Sources {
		if i >= len(s.patients) || s.patients[i].survey == nil {
			return nil
		}
	}
	s.tell()
	return s.keep(s.rc)
}

// keep writes the twin as it is now, then what was tried: a record of tries that is older than its twin costs tries,
// one that is newer would claim what isn't there.
func (s *sitting) keep(ctx context.Context) error {
	t, r := s.twin, s.twin.Rescue
	t.Used, t.Added, r.Wanted, r.Mapped, r.Hit, r.Filled = 0, 0, 0, true, shelf.Hit{}, nil
	if s.before != nil {
		r.Filled = slices.Clone(s.before.Rescue.Filled)
	}
	now := &r.Sittings[len(r.Sittings)-1]
	now.Ended, now.Got, now.Reads, now.Fails = time.Now(), 0, 0, 0
	for i, q := range s.patients {
		if err := q.canvas.flush(ctx); err != nil {
			return err
		}
		d := capture.Describe(q.survey)
		q.describe(d)
		counted := q.count()
		d.Missing, d.Used = q.missing(), counted.got
		t.Disks[i] = *d
		t.Used += d.Used
		t.Added += q.canvas.added
		r.Wanted += counted.wanted
		r.Mapped = r.Mapped && q.mapped()
		r.Hit.Add(q.hit)
		r.Filled = append(r.Filled, q.filled...)
		now.Got += q.got
		now.Reads += q.reads
		now.Fails += q.fails
	}
	t.Seconds = time.Since(s.begun).Seconds()
	if err := s.session.Checkpoint(ctx, t); err != nil {
		return err
	}
	if n := len(s.patients); n == 1 { // of several the rail is that of one
		s.rc.ShowRead(s.patients[0].shown())
	}
	for i, q := range s.patients {
		if err := s.session.PutTried(ctx, t.ID, i, q.pieces()); err != nil {
			return err
		}
	}
	return nil
}

// end closes the sitting: what was read is kept also when it was cut short.
func (s *sitting) end(cause error) (*shelf.Twin, error) {
	ctx := context.WithoutCancel(s.rc)
	defer func() {
		for _, q := range s.patients {
			q.canvas.drop()
		}
		s.session.Abort(ctx) // gives the lock back; what became durable stays
	}()
	ready := len(s.patients) == len(s.Sources)
	for _, q := range s.patients {
		ready = ready && q.survey != nil
	}
	if !ready {
		return nil, cause
	}
	now := &s.twin.Rescue.Sittings[len(s.twin.Rescue.Sittings)-1]
	now.Done = cause == nil
	s.rc.Phase(keepWords, 0)
	if err := s.keep(ctx); err != nil {
		return nil, errors.Join(cause, err)
	}
	if s.twin.Used == 0 && cause == nil {
		cause = ErrNothing
	}
	return s.twin, cause
}

// Supersede takes the twins of earlier sittings off the shelf that a newer one has everything of. Those that are kept
// for ever stay, and so do those that have something that the newer one says is missing.
func Supersede(ctx context.Context, s *shelf.Shelf, t *shelf.Twin) error {
	pins, err := s.Pins(ctx)
	if err != nil {
		return err
	}
	twins, _ := s.Twins(ctx)
	for _, old := range twins {
		if old.Rescue == nil || old.Rescue.ID != t.Rescue.ID || old.ID >= t.ID {
			continue
		}
		if _, kept := pins[old.ID]; kept || !hasAll(t, old) {
			continue
		}
		if failed := s.Discard(ctx, old, "a later sitting of the same rescue has all of it: "+t.ID); failed != nil {
			err = errors.Join(err, failed)
		}
	}
	return err
}

// hasAll says whether a twin misses nothing that an older one of the same drives has.
func hasAll(t, old *shelf.Twin) bool {
	for i := range t.Disks {
		if i >= len(old.Disks) || !t.Disks[i].Missing.Subtract(old.Disks[i].Missing).Empty() {
			return false
		}
	}
	return len(old.Disks) == len(t.Disks)
}

const pieceSize = 2 << 20

// pieces are the packed states, for the shelf.
func (p *patient) pieces() iter.Seq2[int, []byte] {
	return func(yield func(int, []byte) bool) {
		for from := 0; from < p.states.Chunks(); {
			b, next := p.states.Pack(from, pieceSize)
			if !yield(from, b) {
				return
			}
			from = next
		}
	}
}
