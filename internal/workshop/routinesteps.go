package workshop

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/keeping"
	"twinshelf/internal/routine"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// ErrAway means that a disk of a routine isn't attached.
var ErrAway = errors.New("isn't attached")

// routineDisks finds disks by their identities, and looks at them.
func (w *Workshop) routineDisks(ctx context.Context, wanted []routine.Disk) (out []*bench.Disk, err error) {
	all := w.Bench.List()
	for _, want := range wanted {
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

// InUseError means that a disk that is to be read is written to meanwhile, by this machine.
type InUseError struct {
	Disk   routine.Disk
	Uses   []string
	Points []string // where it is mounted
}

func (e *InUseError) Error() string {
	way := "stop what uses it"
	if len(e.Points) > 0 {
		way = "unmount it (umount " + strings.Join(e.Points, " ") + ")"
	}
	return fmt.Sprintf("%s: %s; what is written meanwhile would be captured in part: %s, mount it read-only, have the "+
		"machine started from a stick, or, where it lies on LVM, allow snapshots (mounted disks: LVM snapshots)",
		e.Disk, strings.Join(e.Uses, ", "), way)
}

// routineSources are disks that are read: nobody may write to them meanwhile.
func (w *Workshop) routineSources(ctx context.Context, wanted []routine.Disk) ([]*bench.Disk, error) {
	disks, err := w.routineDisks(ctx, wanted)
	if err != nil {
		return nil, err
	}
	for i, d := range disks {
		uses := d.InUse()
		if len(uses) == 0 {
			continue
		}
		return nil, &InUseError{wanted[i], slices.Sorted(maps.Values(uses)), d.Points()}
	}
	return disks, nil
}

func (x *routineRun) capture(ctx context.Context, _ routine.Step) (failed error) {
	disks, err := x.w.routineSources(ctx, x.r.Disks)
	if x.r.Snapshots && errors.As(err, new(*InUseError)) {
		var end func() error
		if disks, end, err = x.frozen(ctx); err == nil {
			defer func() { failed = errors.Join(failed, end()) }()
		}
	}
	if err != nil {
		return err
	}
	p, err := x.w.PlanCapture(ctx, x.r.Machine, disks, nil, nil)
	if err != nil {
		return err
	}
	p.Packing = x.r.Packing
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

// thin drops twins by the rule of the shelf, or by the routine's own: then only those that its last run named.
func (x *routineRun) thin(ctx context.Context, _ routine.Step) error {
	if len(x.r.Keep.Generations) > 0 {
		return x.thinByOwn(ctx)
	}
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

func (x *routineRun) thinByOwn(ctx context.Context) error {
	history, _, err := x.w.Routines().History(x.r.Name)
	if err != nil {
		return err
	}
	p, err := keeping.PreviewRules(ctx, x.w.Shelf, keeping.Rules{Usual: x.r.Keep}, x.r.Machine, time.Now())
	if err != nil {
		return err
	}
	later := 0
	for i := range p.Machines {
		goes, next := routine.Leaving(p.Machines[i].Fates, history)
		p.Machines[i].Fates = goes
		for _, f := range next {
			x.e.Leaving = append(x.e.Leaving, f.ID)
			x.e.Log = append(x.e.Log, fmt.Sprintf("%s goes at the next run: %s", units.Moment(f.Twin.Taken), f.Why))
		}
		later += len(next)
	}
	n, err := keeping.Apply(ctx, x.w.Shelf, p)
	if err != nil {
		return err
	}
	x.log("%s dropped by the rule of the routine, %s next time", units.Plural(n, "twin"), units.Plural(later, "twin"))
	return nil
}

func (x *routineRun) carry(ctx context.Context, s routine.Step) error {
	to, err := x.w.openFor(ctx, x.r, s.To)
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
