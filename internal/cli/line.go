package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"twinshelf/internal/settings"
	"twinshelf/internal/sizes"
	"twinshelf/internal/store/far"
	"twinshelf/internal/store/pace"
	"twinshelf/internal/units"
)

func lineCommand(o *options) *cobra.Command {
	var rate, within, month string
	c := &cobra.Command{
		Use: "line ADDRESS", Short: "Bound how much goes over the line to a far shelf",
		Args: exactly("the shelf's address"),
		Long: "It counts for everything that this program does on this machine from now on. --rate 0 and --month 0\n" +
			"take it away. Once a month's allowance has gone over the line nothing more goes before the next month:\n" +
			"work that is under way ends as if the line were cut.",
		Example: "  twinshelf shelf line sftp://tam@backroom/srv/oak --rate \"2 MB\" --within \"8:00 to 18:00\"\n" +
			"  twinshelf shelf line sftp://tam@backroom/srv/oak --month \"20 GB\"\n" +
			"  twinshelf shelf line sftp://tam@backroom/srv/oak",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := far.Check(args[0]); err != nil {
				return usageError{err}
			}
			state, err := settings.Load(settings.Dir())
			if err != nil {
				return err
			}
			address := far.Same(args[0])
			p := state.Lines[address]
			was := p
			if cmd.Flag("rate").Changed {
				if p, err = paceOf(rate, within); err != nil {
					return usageError{err}
				}
				p.Month = was.Month
			} else if within != "" {
				return usageError{errors.New("--within says when --rate counts")}
			}
			if cmd.Flag("month").Changed {
				if p.Month, err = allowance(month); err != nil {
					return usageError{err}
				}
			}
			if p != was {
				if err := state.SetLine(address, p); err != nil {
					return err
				}
			}
			return sayLine(o, p, state.LineCount(address))
		},
	}
	c.Flags().StringVar(&rate, "rate", "", "how much goes each second, each way")
	c.Flags().StringVar(&month, "month", "", "how much goes in a month, both ways together")
	c.Flags().StringVar(&within, "within", "", "the hours in which that is so (default: always)")
	return c
}

// allowance reads how much may go over a line in a month, in bytes; 0 for no end.
func allowance(text string) (int64, error) {
	if text == "0" {
		return 0, nil
	}
	size, err := sizes.Parse(text, sizes.Room{})
	if err == nil && size.Bytes < leastMonth {
		err = fmt.Errorf("%s a month are too few: opening a shelf takes more; %s are the least",
			units.Bytes(size.Bytes), units.Bytes(leastMonth))
	}
	return size.Bytes, err
}

// sayLine says what may go over a line, and how much of it did.
func sayLine(o *options, p pace.Pace, file string) error {
	used := int64(0)
	if p.Month > 0 {
		var err error
		if used, err = pace.NewMeter(file, p.Month).Used(); err != nil {
			return err
		}
	}
	if o.json {
		return o.print(map[string]any{"rate": p.Rate, "within": p.Words(), "month": p.Month, "used": used})
	}
	if p.Rate > 0 {
		o.say("%s a second go over the line at the most%s.", units.Bytes(p.Rate), after(" ", p.Words()))
	}
	if p.Month > 0 {
		o.say("%s may go over the line in a month; %s of that went this month.", units.Bytes(p.Month),
			units.Bytes(used))
	}
	if p == (pace.Pace{}) {
		o.say("As much goes over the line as can.")
	}
	return nil
}

// leastMonth is the least that may go over a line in a month, in bytes.
const leastMonth = 1 << 20

// after puts something before a text that isn't empty.
func after(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}

// leastRate is what connections need to stay alive, in bytes a second.
const leastRate = 16 << 10

// paceOf reads a pace.
func paceOf(rate, within string) (p pace.Pace, err error) {
	if rate == "0" {
		return p, nil
	}
	size, err := sizes.Parse(rate, sizes.Room{})
	if err != nil {
		return p, err
	}
	if size.Bytes < leastRate {
		return p, fmt.Errorf("%s a second are too few: connections would seem dead; %s are the least",
			units.Bytes(size.Bytes), units.Bytes(leastRate))
	}
	p.Rate = size.Bytes
	if within != "" {
		p.From, p.To, err = pace.Hours(within)
	}
	return p, err
}
