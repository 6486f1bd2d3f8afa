package demo

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"twinshelf/internal/routine"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// saved are the routines of the ferry line; two of them have made the dates of their machines.
var saved = []string{`name: Ticket desk, evenings
machine: Ticket desk
disk: Kestrel K2 256, KK2-55A1940B1
shelf: Oak
do: capture
do: prove
when: every weekday at 18:30
within: 18:00 to 5:00
`, `name: Weighbridge, when its card is here
machine: Weighbridge
disk: Turnstone CF 4, TCF4-1998A0D2
shelf: Oak
do: capture
when: when attached for 2 minutes
`, `name: Oak, weekly
shelf: Oak
do: check 5 %
do: thin
when: every sunday at 3:00
spread: 30 minutes
`}

// routines saves them, with a history of the dates that are on the shelf.
func (b Bench) routines(ctx context.Context, s *shelf.Shelf) error {
	book := routine.NewBook(filepath.Join(b.State, "routines"))
	twins, problems := s.Twins(ctx)
	if len(problems) > 0 {
		return problems[0]
	}
	for _, text := range saved {
		r, err := routine.Parse(strings.NewReader(routine.Head + "\n" + text))
		if err != nil {
			return err
		}
		if err := book.Save(r, time.Now()); err != nil {
			return err
		}
		var history []routine.Entry
		for _, t := range twins {
			if t.Machine != r.Machine {
				continue
			}
			e := routine.Entry{Slot: t.Taken, Began: t.Taken, Ended: t.Taken.Add(3 * time.Minute),
				Outcome: routine.Done,
				Twin:    t.ID, Bytes: t.Added, Says: fmt.Sprintf("captured onto Oak: %s in use, %s "+
					"new", units.Bytes(t.Used),
					units.Bytes(t.Added))}
			if t.Added == 0 {
				e.Outcome = routine.Nothing
			}
			history = append(history, e)
		}
		if len(history) == 0 {
			continue
		}
		if err := book.Note(r.Name, history...); err != nil {
			return err
		}
	}
	return nil
}
