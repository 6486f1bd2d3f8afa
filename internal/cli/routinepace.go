package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/routine"
	"twinshelf/internal/workshop"
)

func pauseRoutineCommand(o *options) *cobra.Command {
	var until string
	c := &cobra.Command{
		Use: "pause NAME", Short: "Have a routine not run by itself, until a day or until it is resumed",
		Args:    exactly("the routine"),
		Example: "  twinshelf routine pause \"Ticket desk\" --until 2027-01-07",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			var end time.Time
			if until != "" {
				if end, err = r.Day(until, time.Now()); err != nil {
					return usageError{fmt.Errorf("--until %w", err)}
				}
			}
			err = w.Routines().SetPace(r.Name, func(p *routine.Pace) { p.Paused, p.Until = true, end })
			return paced(o, w, r, err, "is paused")
		},
	}
	c.Flags().StringVar(&until, "until", "", "the day from which on it runs again, such as 2027-01-07")
	return c
}

func resumeRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "resume NAME", Short: "Have a paused routine run again; what it missed isn't made up for",
		Args: exactly("the routine"), Example: "  twinshelf routine resume \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			err = w.Routines().SetPace(r.Name, func(p *routine.Pace) {
				p.Paused, p.Until, p.Resumed = false, time.Time{}, time.Now()
			})
			return paced(o, w, r, err, "runs again")
		},
	}
}

// paced says what became of a routine that was paused or resumed.
func paced(o *options, w *workshop.Workshop, r *routine.Routine, err error, how string) error {
	if err != nil {
		return err
	}
	s, err := w.RoutineState(r, time.Now())
	if err != nil {
		return err
	}
	if o.json {
		return o.print(answer.RoutineStateOf(s, time.Now(), nextShown))
	}
	o.say("%s %s; %s.", r.Name, how, s.NextWords())
	return nil
}

func removeRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a routine and its history; twins stay", Args: exactly("the routine"),
		Example: "  twinshelf routine remove \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			if err := w.Routines().Remove(r.Name); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"name": r.Name})
			}
			o.say("%s is removed.", r.Name)
			return nil
		},
	}
}
