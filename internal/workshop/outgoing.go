package workshop

import (
	"context"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/keeping"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Outgoing is what goes after a capture because the machine's rule says so without asking. It is worked out and
// shown before the capture begins; nothing else goes then.
type Outgoing struct {
	Machine string         `json:"machine"`
	Rule    string         `json:"rule"`
	Fates   []keeping.Fate `json:"fates"` // of twins that go, newest first
}

// Outgoing says what would go after a capture of a machine now; nil when nothing does.
func (w *shelves) Outgoing(ctx context.Context, machine string) (*Outgoing, error) {
	rules, err := keeping.ReadRules(ctx, w.shelf())
	if err != nil || !rules.For(machine).Auto {
		return nil, err
	}
	now := time.Now()
	fates, err := keeping.FatesWith(ctx, w.shelf(), rules.For(machine), machine,
		&shelf.Twin{Machine: machine, Taken: now}, now)
	if err != nil || len(fates) == 0 {
		return nil, err
	}
	return &Outgoing{Machine: machine, Rule: rules.For(machine).Words(), Fates: fates}, nil
}

// Words says it: a sentence, then one for each twin; nothing when nothing goes.
func (l *Outgoing) Words() []string {
	if l == nil {
		return nil
	}
	out := []string{fmt.Sprintf("after this capture the rule (%s) takes %s of %s off the shelf:", l.Rule,
		units.Plural(len(l.Fates), "twin"), l.Machine)}
	for _, f := range l.Fates {
		out = append(out, units.Moment(f.Twin.Taken)+": "+f.Why)
	}
	return out
}

// drop takes off the shelf what was said before, as far as the rule still says so.
func (l *Outgoing) drop(rc *run.Context, s *shelf.Shelf) {
	if l == nil {
		return
	}
	rules, err := keeping.ReadRules(rc, s)
	var now []keeping.Fate
	if err == nil {
		now, err = keeping.FatesWith(rc, s, rules.For(l.Machine), l.Machine, nil, time.Now())
	}
	said := func(f keeping.Fate) bool {
		return slices.ContainsFunc(l.Fates, func(o keeping.Fate) bool { return o.ID == f.ID })
	}
	now = slices.DeleteFunc(now, func(f keeping.Fate) bool { return !said(f) })
	if err == nil && len(now) > 0 && rules.For(l.Machine).Auto {
		var gone []*shelf.Twin
		for _, f := range now {
			gone = append(gone, f.Twin)
		}
		var back int64
		if back, err = keeping.RoomOf(rc, s, gone); err == nil {
			n := 0
			if n, err = keeping.Apply(rc, s,
				&keeping.Preview{Machines: []keeping.MachinePreview{{Machine: l.Machine, Fates: now}}}); n > 0 {
				rc.Note("%s of %s went by the rule (%s); up to %s come back when space is given back",
					units.Plural(n, "twin"), l.Machine, l.Rule, units.Bytes(back))
			}
		}
	}
	if err != nil {
		rc.Note("the dates of %s weren't thinned: %v", l.Machine, err)
	}
}
