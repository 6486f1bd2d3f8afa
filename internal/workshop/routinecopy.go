package workshop

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/routine"
	"twinshelf/internal/units"
)

// UnconfirmedError means that nobody confirmed yet what a routine erases, as it is now.
type UnconfirmedError struct{ Routine *routine.Routine }

func (e *UnconfirmedError) Error() string {
	var spares []string
	for _, d := range e.Routine.Spares {
		spares = append(spares, d.String())
	}
	return fmt.Sprintf("nobody confirmed that it erases %s: \"twinshelf routine confirm '%s'\" asks once",
		strings.Join(spares, " and "), e.Routine.Name)
}

// RoutineConfirmed says whether a person confirmed what a routine erases; true of one that erases nothing.
func (w *room) RoutineConfirmed(r *routine.Routine) (bool, error) {
	if !r.Erases() {
		return true, nil
	}
	pace, err := w.Routines().Pace(r.Name)
	return err == nil && pace.Confirmed == r.Consent(), err
}

// ConfirmRoutine keeps that a person confirmed what a routine erases. What they typed was compared before.
func (w *room) ConfirmRoutine(r *routine.Routine) error {
	return w.Routines().SetPace(r.Name, func(p *routine.Pace) { p.Confirmed = r.Consent() })
}

// SummarizeRoutine says what a routine erases each time, one summary for each spare; the serial number is confirmed
// in full, since nobody is asked again.
func SummarizeRoutine(r *routine.Routine) (out []Summary) {
	if !r.Erases() {
		return nil
	}
	for i, d := range r.Spares {
		s := Summary{Head: fmt.Sprintf("each time that this routine runs, everything on %s is overwritten, and nobody "+
			"is asked.", d), From: []string{r.Disks[i].String(), "as it is then"}, To: []string{d.String(),
			"known by model and serial number: every other disk is refused"},
			Lost: []string{"whatever is on the spare then"},
			Notes: []string{"it fails, and writes nothing, while the spare is mounted, out of reach, too small, or " +
				"holds a shelf in use", "both disks will have the same identity: don't leave both in one machine"}}
		s.Confirm, s.What = d.Serial, "the whole serial number of the spare"
		s.Look = "Look at the sticker of " + d.Model
		out = append(out, s)
	}
	return out
}

// copy writes each disk onto its spare, reads it back and proves it. What a person would be asked about fails it.
func (x *routineRun) copy(ctx context.Context, _ routine.Step) error {
	if sure, err := x.w.RoutineConfirmed(x.r); err != nil || !sure {
		if err == nil {
			err = &UnconfirmedError{x.r}
		}
		return err
	}
	sources, err := x.w.routineSources(ctx, x.r.Disks)
	if err != nil {
		return err
	}
	spares, err := x.w.routineDisks(ctx, x.r.Spares)
	if err != nil {
		return fmt.Errorf("the spare %w", err)
	}
	var pairs []*Pair
	for i, d := range sources {
		p, err := x.w.PlanRestore(ctx, Origin{Bench: d}, spares[i], plan.Wish{}, nil)
		if err != nil {
			return fmt.Errorf("the spare %s: %w", x.r.Spares[i], err)
		}
		pairs = append(pairs, p)
	}
	if err := x.w.CheckPairs(pairs); err != nil {
		return err
	}
	for _, s := range sources {
		if warnings := s.Survey.Warnings(); len(warnings) > 0 {
			return fmt.Errorf("nothing was written: %s: %s; shut the machine down cleanly first",
				disk.Sticker(s.Identity), strings.Join(warnings, "; "))
		}
	}
	r, result := x.w.StartRestore(ctx, pairs)
	if err := x.wait(r); err != nil {
		return err
	}
	proof := result()
	if !proof.Holds() {
		return fmt.Errorf("the spare doesn't hold what was written: %s", proof.Words())
	}
	x.log("copied onto %s and read back: %s", units.Plural(len(pairs), "spare"), proof.Words())
	return nil
}

// sheet writes the job sheet of the machine's case into a folder, under a name of its own.
func (x *routineRun) sheet(ctx context.Context, s routine.Step) error {
	id, err := x.w.jobFor(ctx, x.r.Machine)
	if err != nil {
		return err
	}
	copyOf(x.w.room, id).share(ctx)
	j, err := x.w.book().Read(id)
	if err != nil {
		return err
	}
	paper, noLogo := x.w.SheetOf(j, "")
	if noLogo != nil {
		x.e.Log = append(x.e.Log, fmt.Sprintf("the sheet is made without the logo: %v", noLogo))
	}
	b, err := paper.As(".pdf")
	if err != nil {
		return err
	}
	name, err := writeBeside(filepath.Join(s.To, strings.TrimLeft(strings.NewReplacer("/", "-", "\\", "-").Replace(
		x.r.Machine), ".")+time.Now().Format(" 2006-01-02 1504")), ".pdf", b)
	if err != nil {
		return err
	}
	x.log("the sheet is in %s", name)
	return nil
}

// mostBeside is how many papers of one minute there may be.
const mostBeside = 100

// writeBeside writes a new file of that name, with a number where there are others of it.
func writeBeside(name, ext string, b []byte) (string, error) {
	for i := 1; ; i++ {
		whole := name + ext
		if i > 1 {
			whole = fmt.Sprintf("%s (%d)%s", name, i, ext)
		}
		if err := WriteNew(whole, b); !errors.Is(err, fs.ErrExist) || i == mostBeside {
			return whole, err
		}
	}
}
