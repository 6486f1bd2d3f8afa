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
	var rate, within string
	c := &cobra.Command{
		Use: "line ADDRESS", Short: "Bound how much goes over the line to a far shelf",
		Args: exactly("the shelf's address"),
		Long: "It counts for everything that this program does on this machine from now on. --rate 0 takes it away.",
		Example: "  twinshelf shelf line sftp://tam@backroom/srv/oak --rate \"2 MB\" --within \"8:00 to 18:00\"\n" +
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
			if cmd.Flag("rate").Changed {
				if p, err = paceOf(rate, within); err != nil {
					return usageError{err}
				}
				if err := state.SetLine(address, p); err != nil {
					return err
				}
			} else if within != "" {
				return usageError{errors.New("--within says when --rate counts")}
			}
			if o.json {
				return o.print(map[string]any{"rate": p.Rate, "within": p.Words()})
			}
			if p.Rate == 0 {
				o.say("As much goes over the line as can.")
				return nil
			}
			o.say("%s a second go over the line at the most%s.", units.Bytes(p.Rate), after(" ", p.Words()))
			return nil
		},
	}
	c.Flags().StringVar(&rate, "rate", "", "how much goes each second, each way")
	c.Flags().StringVar(&within, "within", "", "the hours in which that is so (default: always)")
	return c
}

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
