package keeping

import (
	"context"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/shelf"
)

// Preview is what thinning would do, before it is done.
type Preview struct {
	Machines []MachinePreview `json:"machines"`
	// Back is the room that comes back when space is then given back, in bytes; shared blocks are counted
	// only when nobody needs them any more.
	Back int64 `json:"back"`
	Goes int   `json:"goes_count"`
}

// MachinePreview is the preview of one machine.
type MachinePreview struct {
	Machine string `json:"machine"`
	Rule    string `json:"rule"`
	Fates   []Fate `json:"fates"`
	// Reach is the oldest date that is left.
	Reach time.Time `json:"reach"`
}

// PreviewThinning says what the rules mean now; for one machine, or for all when machine is empty.
func PreviewThinning(ctx context.Context, s *shelf.Shelf, machine string, now time.Time) (*Preview, error) {
	rules, err := ReadRules(ctx, s)
	if err != nil {
		return nil, err
	}
	return PreviewRules(ctx, s, rules, machine, now)
}

// dates are all twins, and the marks of those that are kept for ever; nothing is thinned while either can't be told.
func dates(ctx context.Context, s *shelf.Shelf) ([]*shelf.Twin, map[string]shelf.Pin, error) {
	pins, err := s.Pins(ctx)
	if err != nil {
		return nil, nil, err
	}
	twins, problems := s.Twins(ctx)
	if len(problems) > 0 {
		return nil, nil, fmt.Errorf("what the shelf holds can't be told: %w", problems[0])
	}
	return twins, pins, nil
}

// PreviewRules is PreviewThinning for rules that aren't set yet.
func PreviewRules(ctx context.Context, s *shelf.Shelf, rules Rules, machine string, now time.Time) (*Preview, error) {
	twins, pins, err := dates(ctx, s)
	if err != nil {
		return nil, err
	}
	p := &Preview{}
	var goes []*shelf.Twin
	for len(twins) > 0 {
		n := 1
		for n < len(twins) && twins[n].Machine == twins[0].Machine {
			n++
		}
		mine := twins[:n]
		twins = twins[n:]
		if machine != "" && mine[0].Machine != machine {
			continue
		}
		r := rules.For(mine[0].Machine)
		mp := MachinePreview{Machine: mine[0].Machine, Rule: r.Words(), Fates: Thin(mine, pins, r, now)}
		for _, f := range mp.Fates {
			if f.Goes {
				goes = append(goes, f.Twin)
			} else {
				mp.Reach = f.Twin.Taken
			}
		}
		p.Machines = append(p.Machines, mp)
	}
	p.Goes = len(goes)
	if len(goes) > 0 {
		p.Back, err = RoomOf(ctx, s, goes)
	}
	return p, err
}

// FatesWith are the twins of a machine that a rule drops once another one stands there too; coming may be nil.
func FatesWith(ctx context.Context, s *shelf.Shelf, r Rule, machine string, coming *shelf.Twin,
	now time.Time) ([]Fate, error) {
	twins, pins, err := dates(ctx, s)
	if err != nil {
		return nil, err
	}
	twins = slices.DeleteFunc(twins, func(t *shelf.Twin) bool { return t.Machine != machine })
	if coming != nil {
		twins = append(twins, coming)
	}
	return slices.DeleteFunc(Thin(twins, pins, r, now), func(f Fate) bool { return !f.Goes || f.Twin == coming }), nil
}

// RoomOf is how much room would come back without these twins, in bytes: that of the blocks that no other one needs.
func RoomOf(ctx context.Context, s *shelf.Shelf, goes []*shelf.Twin) (int64, error) {
	twins, problems := s.Twins(ctx)
	if len(problems) > 0 {
		return 0, problems[0]
	}
	if err := s.Refresh(ctx); err != nil {
		return 0, err
	}
	stay := slices.DeleteFunc(twins, func(t *shelf.Twin) bool {
		return slices.ContainsFunc(goes, func(g *shelf.Twin) bool { return g.ID == t.ID })
	})
	m := s.Marking()
	defer m.Close()
	if err := markAll(ctx, s, m, stay); err != nil {
		return 0, err
	}
	m.Stored()
	err := markAll(ctx, s, m, goes)
	return m.Stored(), err
}

// Apply discards what a preview said would go, and nothing else.
func Apply(ctx context.Context, s *shelf.Shelf, p *Preview) (int, error) {
	n := 0
	for _, m := range p.Machines {
		for _, f := range m.Fates {
			if !f.Goes {
				continue
			}
			if err := s.Discard(ctx, f.Twin, "thinned: "+f.Why); err != nil {
				return n, err
			}
			n++
		}
	}
	return n, nil
}
