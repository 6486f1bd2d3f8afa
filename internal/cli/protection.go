package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/keeping"
	"twinshelf/internal/store/far"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func protectionCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "protection", Short: "Try out what protects a far shelf from whoever gets hold of its key",
		Args: cobra.NoArgs,
		Long: "An object of its own is put, replaced and deleted, and what went through is said. Nothing of the\n" +
			"shelf is touched.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			p, err := w.TryProtection(cmd.Context(), w.Shelf)
			if errors.Is(err, workshop.ErrUnprotected) {
				return usageError{err}
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"safe": p.Safe, "days": p.For.Hours() / 24, "says": p.Says,
					"warnings": append([]string{}, p.Warnings...)})
			}
			for _, s := range append([]string{p.Says}, p.Warnings...) {
				o.say("%s.", strings.ToUpper(s[:1])+s[1:])
			}
			return nil
		},
	}
}

// mostRetained bounds for how long objects are locked, in days: nobody can take that back.
const mostRetained = 400

func retainCommand(o *options) *cobra.Command {
	var days int
	c := &cobra.Command{
		Use: "retain", Short: "Lock what the rules keep against deleting, in object storage", Args: cobra.NoArgs,
		Long: "Everything that twins need which the rules keep is locked for so many days from now: then nobody can\n" +
			"delete it, its owner neither. Run it more often than that, as by a routine of your system. What only\n" +
			"others need isn't locked any longer than it was, so that its room comes back. The bucket must have\n" +
			"been made with object lock.",
		Example: "  twinshelf shelf retain --days 30",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if days < 1 || days > mostRetained {
				return usageError{fmt.Errorf("--days %d: choose from 1 to %d", days, mostRetained)}
			}
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			until := time.Now().AddDate(0, 0, days)
			n, err := keeping.Retain(cmd.Context(), w.Shelf, until, nil)
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"objects": n, "until": until})
			}
			o.say("%s can't be deleted before %s.", units.Plural(n, "object"), units.Moment(until))
			return nil
		},
	}
	c.Flags().IntVar(&days, "days", 30, "for how long from now")
	return c
}

func bringBackCommand(o *options) *cobra.Command {
	var when string
	c := &cobra.Command{
		Use: "bring-back ADDRESS", Short: "Bring back what was deleted or replaced in object storage that keeps " +
			"versions",
		Args: exactly("the shelf's address"),
		Long: "Everything that was deleted comes back; with --as-of, every object that was deleted or replaced " +
			"since\n" +
			"that time gets back what it held then. What came since stays, and what was dropped on purpose comes\n" +
			"back too, as long as the bucket keeps it. The key must be one that may read versions and put\n" +
			"objects.",
		Example: "  twinshelf shelf bring-back s3://quay/oak --as-of \"2026-11-29 18:00\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := far.Check(args[0]); err != nil {
				return usageError{err}
			}
			var asOf time.Time
			if when != "" {
				var err error
				if asOf, err = time.ParseInLocation("2006-01-02 15:04", when, time.Local); err != nil {
					return usageError{errors.New("--as-of is a date and a time, such as \"2026-11-29 18:00\"")}
				}
			}
			n, err := workshop.BringBack(cmd.Context(), args[0], farAsks(o), asOf)
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"objects": n})
			}
			o.say("%s came back.", units.Plural(n, "object"))
			return nil
		},
	}
	c.Flags().StringVar(&when, "as-of", "", "bring everything back as it was at that time")
	return c
}
