package workshop

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/keeping"
	"twinshelf/internal/machine"
	"twinshelf/internal/routine"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Routines is the book of saved work.
func (w *room) Routines() *routine.Book {
	return routine.NewBook(filepath.Join(w.State.Folder(), "routines"))
}

// RoutineStates say how it stands with all routines at a moment, by name; problems are of those that can't be read. It
// looks what is attached, and keeps since when.
func (w *room) RoutineStates(now time.Time) (list []*routine.Standing, problems []error) {
	b := w.Routines()
	since, err := w.attachedSince(now)
	if err != nil {
		problems = append(problems, err)
	}
	names, err := b.Names()
	if err != nil {
		return nil, append(problems, fmt.Errorf("the routines can't be listed: %w", err))
	}
	world := routine.World{Now: now, Battery: onBattery(), Since: since}
	for _, name := range names {
		r, err := b.Find(name)
		var s *routine.Standing
		if err == nil {
			s, err = b.Standing(r, world)
		}
		if err != nil {
			problems = append(problems, fmt.Errorf("%s: %w", name, err))
			continue
		}
		list = append(list, s)
	}
	return list, problems
}

// RoutineState says how it stands with one.
func (w *room) RoutineState(r *routine.Routine, now time.Time) (*routine.Standing, error) {
	since, err := w.attachedSince(now)
	if err != nil {
		return nil, err
	}
	return w.Routines().Standing(r, routine.World{Now: now, Battery: onBattery(), Since: since})
}

func onBattery() bool {
	p := machine.Look("/").Power
	return p.Told && p.Battery && !p.Mains
}

// attachedSince is since when the disks on the bench are there, by their serial numbers; what is new of that is kept.
func (w *room) attachedSince(now time.Time) (map[string]time.Time, error) {
	b := w.Routines()
	was := b.Since()
	since := map[string]time.Time{}
	for _, d := range w.Bench.List() {
		if serial := d.Identity.Serial; serial != "" {
			since[serial] = now
			if t, known := was[serial]; known {
				since[serial] = t
			}
		}
	}
	if maps.EqualFunc(was, since, time.Time.Equal) {
		return since, nil
	}
	return since, b.KeepSince(since)
}

// ErrAway means that a disk of a routine isn't attached.
var ErrAway = errors.New("isn't attached")

// routineDisks finds the disks of a routine by their identities, and looks at them.
func (w *Workshop) routineDisks(ctx context.Context, r *routine.Routine) (out []*bench.Disk, err error) {
	all := w.Bench.List()
	for _, want := range r.Disks {
		var found *bench.Disk
		for _, d := range all {
			if d.Identity.Serial != want.Serial || d.Identity.Model != want.Model {
				continue
			}
			if found != nil {
				return nil, fmt.Errorf("%s and %s both say that they are %s: attach only the one that is meant",
					found.Path, d.Path, want)
			}
			found = d
		}
		if found == nil {
			return nil, fmt.Errorf("%s %w", want, ErrAway)
		}
		if w.Bench.Probe(ctx, found); found.Problem != "" {
			return nil, fmt.Errorf("%s: %s", want, found.Problem)
		}
		out = append(out, found)
	}
	return out, ctx.Err()
}

// RoutineDoubts are the questions that a capture by a routine would raise now, by what the open shelf knows of its
// disks.
func (w *room) RoutineDoubts(ctx context.Context, r *routine.Routine) (out []string) {
	s := w.shelf()
	if s == nil || !captures(r) {
		return nil
	}
	var ids []disk.Identity
	for _, d := range w.Bench.List() {
		if slices.Contains(r.Disks, routine.Disk{Model: d.Identity.Model, Serial: d.Identity.Serial}) {
			ids = append(ids, d.Identity)
		}
	}
	for _, d := range capture.DoubtsOf(ctx, s, r.Machine, ids) {
		out = append(out, d.Says)
	}
	return out
}

// firstShelf opens the first shelf of a routine that can be had; for a capture one that takes captures.
func (w *Workshop) firstShelf(ctx context.Context, r *routine.Routine) error {
	var problems []error
	for _, name := range r.Shelves {
		s, open := w.shelf(), true
		if s == nil || s.Head().Name != name && s.Head().ID != name && s.Place() != name {
			var err error
			open = false
			if s, err = w.OpenOther(ctx, name); err != nil {
				problems = append(problems, fmt.Errorf("%s: %w", name, err))
				continue
			}
		}
		why, retired := s.Retired(ctx)
		if retired && captures(r) {
			problems = append(problems, fmt.Errorf("%s: it takes no more captures (%s)", name, why))
			if !open {
				s.Close()
			}
			continue
		}
		if !open {
			w.Use(ctx, s)
		}
		return nil
	}
	return fmt.Errorf("no shelf of it can be had: %w", errors.Join(problems...))
}

func captures(r *routine.Routine) bool {
	return slices.ContainsFunc(r.Steps, func(s routine.Step) bool { return s.Action == routine.Capture })
}

// Follower waits for a run, and shows meanwhile how it goes.
type Follower func(*run.Run) error

// RunRoutine does the work of a routine, for the time that it is due for, and keeps in its history what became of it;
// the error is what went wrong. Nobody else can run it meanwhile. What was missed before is noted too.
func (w *Workshop) RunRoutine(ctx context.Context, r *routine.Routine, d routine.Due,
	follow Follower) (e routine.Entry, err error) {
	b := w.Routines()
	lock, err := b.Lock(r.Name)
	if err != nil {
		return e, err
	}
	defer lock.Close()
	var notes []routine.Entry
	for _, at := range d.Missed {
		notes = append(notes, routine.Entry{Slot: at, Ended: time.Now(), Outcome: routine.Missed,
			Says: "nothing ran at that time; it was made up for later"})
	}
	e = routine.Entry{Slot: d.Slot, Began: time.Now(), Outcome: routine.Done}
	did := &routineRun{w: w, r: r, e: &e, follow: follow}
	err = did.all(ctx)
	e.Ended = time.Now()
	switch {
	case err != nil && ctx.Err() != nil:
		e.Outcome, e.Says = routine.Cut, "the program was ended; it is made up for when it is due"
	case errors.Is(err, context.Canceled):
		e.Outcome, e.Says = routine.Stopped, "it was stopped"
	case err != nil:
		e.Outcome, e.Says = routine.Failed, err.Error()
	case did.nothing:
		e.Outcome = routine.Nothing
	}
	e.Log = append(e.Log, w.tellers.tell(ctx, r, &e)...)
	return e, errors.Join(err, b.Note(r.Name, append(notes, e)...))
}

// routineRun is a routine at work.
type routineRun struct {
	w       *Workshop
	r       *routine.Routine
	e       *routine.Entry
	follow  Follower
	nothing bool // a capture found nothing new
}

func (x *routineRun) log(format string, args ...any) {
	said := fmt.Sprintf(format, args...)
	x.e.Log = append(x.e.Log, said)
	if x.e.Says != "" {
		said = x.e.Says + "; " + said
	}
	x.e.Says = said
}

// all does one step after the other; a failure ends it.
func (x *routineRun) all(ctx context.Context) error {
	if err := x.w.firstShelf(ctx, x.r); err != nil {
		return err
	}
	for _, s := range x.r.Steps {
		do := map[routine.Action]func(context.Context, routine.Step) error{routine.Capture: x.capture,
			routine.Prove: x.prove, routine.Check: x.check, routine.Thin: x.thin, routine.Carry: x.carry}[s.Action]
		if err := do(ctx, s); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	return nil
}

// wait follows a run and keeps its notes.
func (x *routineRun) wait(r *run.Run) error {
	err := x.follow(r)
	x.e.Log = append(x.e.Log, r.Snapshot().Notes...)
	return err
}

func (x *routineRun) capture(ctx context.Context, _ routine.Step) error {
	disks, err := x.w.routineDisks(ctx, x.r)
	if err != nil {
		return err
	}
	p, err := x.w.PlanCapture(ctx, x.r.Machine, disks, nil, nil)
	if err != nil {
		return err
	}
	if warnings := p.Warnings(); len(warnings) > 0 {
		return fmt.Errorf("nothing was captured: %s; shut the machine down cleanly, or unmount what is mounted here",
			strings.Join(warnings, "; "))
	}
	if doubts := p.Doubts(ctx); len(doubts) > 0 {
		return fmt.Errorf("nothing was captured, since there was nobody to ask: %s", doubts[0].Says)
	}
	leaving, err := x.w.Outgoing(ctx, x.r.Machine)
	if err != nil {
		return err
	}
	r, result := x.w.StartCapture(ctx, p, leaving)
	if err := x.wait(r); err != nil {
		return err
	}
	t := result()
	x.e.Twin, x.e.Bytes, x.nothing = t.ID, t.Added, t.Added == 0
	x.log("captured onto %s: %s in use, %s new", x.w.Shelf.Head().Name, units.Bytes(t.Used), units.Bytes(t.Added))
	if n := t.Missing(); n > 0 {
		return fmt.Errorf("%s of the source could not be read; the twin %s is kept and says so", units.Bytes(n), t.ID)
	}
	return nil
}

// newest is the machine's newest twin.
func (x *routineRun) newest(ctx context.Context) (*shelf.Twin, error) {
	twins, problems := x.w.Shelf.Twins(ctx)
	var best *shelf.Twin
	for _, t := range twins {
		if strings.EqualFold(t.Machine, x.r.Machine) && (best == nil || t.Taken.After(best.Taken)) {
			best = t
		}
	}
	if best == nil {
		return nil, cmp.Or(errors.Join(problems...), fmt.Errorf("no twin of %s is on %s", x.r.Machine,
			x.w.Shelf.Head().Name))
	}
	return best, nil
}

func (x *routineRun) prove(ctx context.Context, _ routine.Step) error {
	t, err := x.newest(ctx)
	if err != nil {
		return err
	}
	r, result := x.w.StartProofTwin(ctx, t)
	if err := x.wait(r); err != nil {
		return err
	}
	p := result()
	if !p.Holds() {
		return fmt.Errorf("the twin of %s doesn't hold: %s", units.Moment(t.Taken), p.Words())
	}
	x.log("proven: %s", p.Words())
	return nil
}

func (x *routineRun) check(ctx context.Context, s routine.Step) error {
	r, report := x.w.StartCheck(ctx, keeping.CheckKind{Share: s.Share / 100})
	if err := x.wait(r); err != nil {
		return err
	}
	rep := report()
	if !rep.Sound() {
		return fmt.Errorf("the shelf is hurt: %s, %s; \"twinshelf shelf check --mend\" repairs what it can",
			units.Plural(len(rep.Hurt), "file"), units.Plural(rep.Lost, "block"))
	}
	x.log("checked: %s of the shelf read, all of it right", units.Bytes(rep.Bytes))
	return nil
}

func (x *routineRun) thin(ctx context.Context, _ routine.Step) error {
	p, err := keeping.PreviewThinning(ctx, x.w.Shelf, x.r.Machine, time.Now())
	if err != nil {
		return err
	}
	n, err := keeping.Apply(ctx, x.w.Shelf, p)
	if err == nil {
		x.log("%s dropped by the rule", units.Plural(n, "twin"))
	}
	return err
}

func (x *routineRun) carry(ctx context.Context, s routine.Step) error {
	to, err := x.w.OpenOther(ctx, s.To)
	if err != nil {
		return err
	}
	defer to.Close()
	r, moved := x.w.StartCarry(ctx, to, nil)
	if err := x.wait(r); err != nil {
		return err
	}
	x.log("carried to %s: %s", to.Head().Name, moved().Words())
	return nil
}

// lookEvery is how often it is looked whether a routine is due.
const lookEvery = 15 * time.Second

// Told hears what happens to a routine.
type Told func(name, what string)

// RunDue runs the routines that are due now, one after the other, and says of the others what they wait for. failed are
// how many of those that ran didn't end well.
func (w *Workshop) RunDue(ctx context.Context, follow Follower, say Told) (failed int, err error) {
	list, problems := w.RoutineStates(time.Now())
	for _, p := range problems {
		say("routines", p.Error())
		failed++
	}
	for _, s := range list {
		switch {
		case s.Running:
		case s.Due.Now:
			say(s.Name, "begins, for "+units.Moment(s.Due.Slot))
			e, err := w.RunRoutine(ctx, s.Routine, s.Due, follow)
			switch {
			case errors.As(err, new(*routine.BusyError)): // begun by somebody else just now
			case e.Outcome == routine.Failed:
				failed++
				say(s.Name, "failed: "+e.Says)
			case err != nil && e.Outcome != routine.Stopped && e.Outcome != routine.Cut:
				failed++
				say(s.Name, err.Error())
			default:
				say(s.Name, string(e.Outcome)+": "+e.Says)
			}
		case s.Due.Waits != "":
			say(s.Name, "waits: "+s.Due.Waits)
		}
		if ctx.Err() != nil {
			return failed, ctx.Err()
		}
	}
	return failed, nil
}

// WatchRoutines runs routines when they are due until the context ends.
func (w *Workshop) WatchRoutines(ctx context.Context, follow Follower, say Told) error {
	said := map[string]string{}
	once := func(name, what string) { // not every few seconds
		if said[name] != what {
			said[name] = what
			say(name, what)
		}
	}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		_, err := w.RunDue(ctx, follow, once)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// overdueAfter is how long a routine may wait until that is said at the start of the program.
const overdueAfter = 24 * time.Hour

// Overdue says which routines failed the last time, or wait since yesterday; nothing where all is well.
func (w *room) Overdue(now time.Time) (out []string) {
	list, problems := w.RoutineStates(now)
	for _, p := range problems {
		out = append(out, p.Error())
	}
	for _, s := range list {
		e, ran := s.Last()
		switch {
		case s.Running || s.Pace.Paused:
		case ran && e.Outcome == routine.Failed:
			out = append(out, fmt.Sprintf("the routine %s failed %s: %s", s.Name, units.Moment(e.Ended.Local()),
				e.Says))
		case !s.Due.Slot.IsZero() && now.Sub(s.Due.Slot) > overdueAfter:
			out = append(out, fmt.Sprintf("the routine %s is due since %s", s.Name, units.Moment(s.Due.Slot.Local())))
		}
	}
	return out
}
