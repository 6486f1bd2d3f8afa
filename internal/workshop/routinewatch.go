package workshop

import (
	"context"
	"errors"
	"fmt"
	"time"

	"twinshelf/internal/routine"
	"twinshelf/internal/units"
)

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
			case errors.As(err, new(*routine.DiskBusyError)):
				say(s.Name, "waits: "+err.Error())
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
	for _, p := range w.tellStanding(ctx, time.Now()) {
		say("routines", p)
	}
	return failed, nil
}

// tellStanding tells what no run tells: that nothing ended well for too long, and how the week was. It gives what was
// told, and what went wrong with that.
func (w *Workshop) tellStanding(ctx context.Context, now time.Time) (said []string) {
	list, _ := w.RoutineStates(now) // anew, since some of them ran; what can't be read was said
	for _, s := range list {
		since, silent := s.Silent(s.History, s.Pace, now)
		if !silent || s.Running {
			continue
		}
		said = append(said, w.tellSilence(ctx, s, since, now)...)
	}
	if who, _ := routine.WantWeekly(list); len(who) == 0 {
		return said
	}
	from, due, err := w.Routines().WeeklyDue(now)
	if err != nil {
		return append(said, err.Error())
	}
	if due {
		said = append(said, w.tellWeek(ctx, list, from, now)...)
	}
	return said
}

// Silence is what is told when nothing ended well for too long, as JSON.
type Silence struct {
	Routine string    `json:"routine_name"`
	Machine string    `json:"machine,omitempty"`
	Since   time.Time `json:"silent_since"`
	Says    string    `json:"says"`
}

func (w *Workshop) tellSilence(ctx context.Context, s *routine.Standing, since, now time.Time) (said []string) {
	m := Silence{s.Name, s.Machine, since, fmt.Sprintf("nothing ended well since %s; last: %s; %s",
		units.Moment(since.Local()), s.LastWords(), s.NextWords())}
	n := notice{subject: s.Name + ": silent for too long", body: m,
		text: fmt.Sprintf("The routine \"%s\": %s.\n\nLook whether its disks are attached and the machine that runs "+
			"it is on.\n\"twinshelf routine show '%s'\" tells more, \"twinshelf routine run '%s'\" runs it "+
			"now.\n", s.Name, m.Says,
			s.Name, s.Name),
		env: []string{"TWINSHELF_ROUTINE=" + s.Name, "TWINSHELF_OUTCOME=silent", "TWINSHELF_SAYS=" + m.Says}}
	t := w.tellersNow()
	said = []string{s.Name + ": " + m.Says}
	for _, to := range s.Tell {
		if to.On != routine.Weekly {
			said = append(said, t.tell(ctx, to, n)...)
		}
	}
	if err := w.Routines().SetPace(s.Name, func(p *routine.Pace) { p.Alarmed = now }); err != nil {
		said = append(said, err.Error())
	}
	return said
}

// WeekMessage is what those who are told weekly get as JSON.
type WeekMessage struct {
	From     time.Time      `json:"from"`
	Routines []routine.Week `json:"routines_of_week"`
}

// tellWeek tells how the time since from was. It counts as told also where nobody could be reached: the next one comes
// in a week.
func (w *Workshop) tellWeek(ctx context.Context, list []*routine.Standing, from, now time.Time) (said []string) {
	if err := w.Routines().WeeklySent(now); err != nil {
		return []string{err.Error()}
	}
	t := w.tellersNow()
	who, of := routine.WantWeekly(list)
	for _, to := range who {
		m := WeekMessage{From: from}
		text := fmt.Sprintf("What the routines did since %s:\n\n", units.Moment(from.Local()))
		failed := 0
		for _, s := range of[to] {
			week := s.Week(from)
			m.Routines = append(m.Routines, week)
			text += week.Words() + "\n"
			if week.Failed != "" {
				failed++
			}
		}
		subject := "the week: no routine failed last"
		if failed > 0 {
			subject = fmt.Sprintf("the week: %s failed last", units.Plural(failed, "routine"))
		}
		said = append(said, t.tell(ctx, to, notice{subject: subject, text: text, body: m,
			env: []string{"TWINSHELF_OUTCOME=week", "TWINSHELF_SAYS=" + subject}})...)
	}
	return append(said, fmt.Sprintf("the week was told to %d", len(who)))
}

// stopWithin is how long a run that was asked to stop may take: what it does is finished to a state that is whole.
const stopWithin = 2 * time.Minute

// StopRoutine asks the process that runs a routine to stop it, and waits until it has.
func (w *Workshop) StopRoutine(ctx context.Context, name string) error {
	b := w.Routines()
	if err := b.AskStop(name); err != nil {
		return err
	}
	ctx, end := context.WithTimeout(ctx, stopWithin)
	defer end()
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		if lock, err := b.Lock(name); err == nil {
			return lock.Close()
		} else if !errors.As(err, new(*routine.BusyError)) {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s was asked to stop and hasn't yet: %w", name, ctx.Err())
		case <-tick.C:
		}
	}
}

// WatchRoutines runs routines when they are due until the context ends.
func (w *Workshop) WatchRoutines(ctx context.Context, follow Follower, say Told) error {
	lock, err := w.Routines().LockWatch()
	if err != nil {
		return err
	}
	defer lock.Close()
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
