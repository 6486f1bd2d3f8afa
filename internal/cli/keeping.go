package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/keeping"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func ruleCommand(o *options) *cobra.Command {
	var machine string
	var floor int
	var auto bool
	c := &cobra.Command{
		Use: "rule [WORDS]", Short: "Show or set how densely dates are kept",
		Long: "Without WORDS the rules are shown. A rule is said in plain words, the newest stretch first.\n" +
			"Setting a rule drops nothing: \"twinshelf shelf thin\" shows what would go. With --auto\n" +
			"it is dropped after each capture.",
		Example: "  twinshelf shelf rule \"every one for 2 days, then one a day for 5 weeks, then one a month for " +
			"ever\" --floor 3\n" +
			"  twinshelf shelf rule \"every one for ever\" --machine Weighbridge",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				r, err := keeping.ReadRule(args[0])
				if err != nil {
					return usageError{err}
				}
				if cmd.Flags().Changed("floor") {
					r.Floor = max(0, floor)
				}
				r.Auto = r.Auto || auto
				if err := keeping.SetRule(cmd.Context(), w.Shelf, machine, r); err != nil {
					return err
				}
			}
			rules, err := keeping.ReadRules(cmd.Context(), w.Shelf)
			if err != nil {
				return err
			}
			if o.json {
				return o.print(rulesOf(rules))
			}
			o.say("Usual rule: %s", rules.Usual.Words())
			for m, r := range rules.Machines {
				o.say("%s: %s", m, r.Words())
			}
			return nil
		},
	}
	c.Flags().StringVar(&machine, "machine", "", "only for this machine")
	c.Flags().IntVar(&floor, "floor", keeping.UsualFloor, "never fewer than this many twins of a machine")
	c.Flags().BoolVar(&auto, "auto", false, "drop what the rule no longer keeps after each capture, without asking")
	return c
}

// machineRule is the rule of one machine, or of all that have none of their own.
type machineRule struct {
	Machine string `json:"machine,omitempty"`
	Words   string `json:"words"`
	// Generations are how densely dates are kept, the newest stretch first.
	Generations []stretch `json:"generations"`
	Floor       int       `json:"floor"`
	Auto        bool      `json:"auto"`
}

// stretch is a generation of a rule; absent is every one, and for ever.
type stretch struct {
	Every time.Duration `json:"every_seconds,omitempty"`
	For   time.Duration `json:"for_seconds,omitempty"`
}

func ruleOf(machine string, r keeping.Rule) machineRule {
	out := machineRule{Machine: machine, Words: r.Words(), Floor: r.Floor, Auto: r.Auto}
	for _, g := range r.Generations {
		out.Generations = append(out.Generations,
			stretch{time.Duration(g.Every) * time.Hour, time.Duration(g.For) * time.Hour})
	}
	return out
}

// rulesOf are the rules of a shelf, those of machines by their names.
func rulesOf(r keeping.Rules) any {
	own := []machineRule{}
	for _, m := range slices.Sorted(maps.Keys(r.Machines)) {
		own = append(own, ruleOf(m, r.Machines[m]))
	}
	return map[string]any{"usual": ruleOf("", r.Usual), "machines": own}
}

func thinCommand(o *options) *cobra.Command {
	var machine string
	var now bool
	c := &cobra.Command{
		Use: "thin", Short: "Show what would go by the rules, or drop it with --now",
		Example: "  twinshelf shelf thin\n  twinshelf shelf thin --machine \"Ticket desk\" --now",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			p, err := keeping.PreviewThinning(cmd.Context(), w.Shelf, machine, time.Now())
			if err != nil {
				return err
			}
			if !o.json {
				o.showPreview(p)
			}
			done := 0
			if now {
				if done, err = keeping.Apply(cmd.Context(), w.Shelf, p); err != nil {
					return err
				}
			}
			if o.json {
				return o.print(map[string]any{"preview": p, "dropped": done})
			}
			if now {
				o.say("%s dropped; \"twinshelf shelf room\" gives their room back.", units.Plural(done, "twin"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&machine, "machine", "", "only this machine")
	c.Flags().BoolVar(&now, "now", false, "drop what is shown")
	return c
}

func (o *options) showPreview(p *keeping.Preview) {
	for _, m := range p.Machines {
		o.say("%s: %s", m.Machine, m.Rule)
		t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
		for _, f := range m.Fates {
			mark := "stays"
			if f.Goes {
				mark = "GOES"
			}
			fmt.Fprintf(t, "  %s\t%s\t%s\t%s\n", mark, units.Moment(f.Twin.Taken), f.Why, f.ID)
		}
		t.Flush()
		o.say("  then it reaches back to %s", units.Moment(m.Reach))
	}
	o.say("%s would go, and up to %s come back when space is given back.", units.Plural(p.Goes, "twin"),
		units.Bytes(p.Back))
}

// unlockingCommand keeps the keys of a twin's volumes with it, on a sealed shelf.
func unlockingCommand(o *options) *cobra.Command {
	var off bool
	c := &cobra.Command{
		Use:   "unlocking TWIN",
		Short: "Keep the keys of a twin's encrypted volumes with it on a sealed shelf, or take them away with --off",
		Long: "Whoever has the shelf's passphrase can then look inside the twin without its recovery key.\n" +
			"Give the key once, with --key-file or --unlock. A shelf that isn't sealed keeps no keys.",
		Example: "  twinshelf shelf unlocking \"Booking office\" --key-file \"Booking office recovery key.txt\"\n" +
			"  twinshelf shelf unlocking \"Booking office\" --off",
		Args: exactly("the twin"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			w, err := o.workshop(ctx, true)
			if err != nil {
				return err
			}
			t, err := findTwin(ctx, w.Shelf, args[0])
			if err != nil {
				return err
			}
			if off {
				err = shelf.KeysOn(w.Shelf).Forget(ctx, t.ID)
			} else if err = o.keys.twin(ctx, o, w, t); err == nil {
				err = shelf.KeysOn(w.Shelf).Keep(ctx, t)
			}
			if err != nil {
				return fmt.Errorf("the keys aren't kept with the twin of %s of %s: %w", t.Machine,
					units.Moment(t.Taken), err)
			}
			if o.json {
				return o.print(map[string]any{"twin": t.ID, "keys_kept": !off})
			}
			o.say("With the twin of %s of %s %s.", t.Machine, units.Moment(t.Taken),
				map[bool]string{true: "no keys are kept any more",
					false: "its keys are kept: it opens without them"}[off])
			return nil
		},
	}
	c.Flags().BoolVar(&off, "off", false, "take the keys away that are kept with it")
	return c
}

func keepCommand(o *options) *cobra.Command {
	var note string
	var off bool
	c := &cobra.Command{
		Use: "keep TWIN", Short: "Keep a twin for ever, or take that back with --off",
		Example: "  twinshelf shelf keep 20261030 --note \"before the new till\"\n  twinshelf shelf keep " +
			"20261030 --off",
		Args: exactly("the twin"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			t, err := findTwin(cmd.Context(), w.Shelf, args[0])
			if err != nil {
				return err
			}
			if off {
				err = w.Unkeep(cmd.Context(), t.ID)
			} else {
				err = w.Shelf.Keep(cmd.Context(), t.ID, note)
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"twin": t.ID, "kept": !off, "kept_note": note})
			}
			o.say("The twin of %s of %s is %s.", t.Machine, units.Moment(t.Taken),
				map[bool]string{true: "no longer kept for ever", false: "kept for ever"}[off])
			return nil
		},
	}
	c.Flags().StringVar(&note, "note", "", "why")
	c.Flags().BoolVar(&off, "off", false, "don't keep it for ever any more")
	return c
}

func discardCommand(o *options) *cobra.Command {
	var f writing
	var why string
	c := &cobra.Command{
		Use: "discard TWIN", Short: "Take one twin off the shelf",
		Example: "  twinshelf shelf discard 20261002 --why \"taken from the wrong machine\" --plan",
		Args:    exactly("the twin"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			hopeless, err := w.Shelf.Hopeless(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if hopeless {
				return discardHurt(cmd.Context(), o, w, args[0], why, f)
			}
			t, err := findTwin(cmd.Context(), w.Shelf, args[0])
			if err != nil {
				return err
			}
			room, err := keeping.RoomOf(cmd.Context(), w.Shelf, []*shelf.Twin{t})
			if err != nil {
				return err
			}
			u := undertaking{plan: f.plan, confirm: []string{f.confirm}}
			u.summaries = []workshop.Summary{{Confirm: t.Machine, What: "the name of the machine"}}
			u.planned = map[string]any{"twin": t.ID, "machine": t.Machine, "taken": t.Taken, "back": room}
			u.show = func() {
				o.say("The twin of %s of %s goes; up to %s come back when space is given back.", t.Machine,
					units.Moment(t.Taken), units.Bytes(room))
			}
			u.work = func() error {
				if err := w.Shelf.Discard(cmd.Context(), t, why); err != nil {
					return err
				}
				return o.saidDiscarded(map[string]any{"discarded": t.ID, "back": room})
			}
			return o.undertake(u)
		},
	}
	f.flags(c)
	c.Flags().StringVar(&why, "why", "discarded by hand", "the reason, for the shelf's journal")
	return c
}

func (o *options) saidDiscarded(v any) error {
	if o.json {
		return o.print(v)
	}
	o.say("Discarded.")
	return nil
}

// discardHurt takes off a twin of which only the ID is known.
func discardHurt(ctx context.Context, o *options, w *workshop.Workshop, id, why string, f writing) error {
	u := undertaking{plan: f.plan, planned: map[string]any{"twin": id}, confirm: []string{f.confirm}}
	u.summaries = []workshop.Summary{{Confirm: id, What: "the ID of the twin"}}
	u.show = func() {
		o.say("The description of the twin %s can't be read, and its copy can't either: which machine and date it "+
			"is isn't known any more.", id)
		o.say("If another shelf has it, carry it here again instead. Without it the room of its blocks comes back " +
			"when space is given back.")
	}
	u.work = func() error {
		if err := w.Shelf.DiscardHurt(ctx, id, why); err != nil {
			return err
		}
		return o.saidDiscarded(map[string]any{"discarded": id})
	}
	return o.undertake(u)
}

func roomCommand(o *options) *cobra.Command {
	var plan bool
	c := &cobra.Command{
		Use: "room", Short: "Free the space of blocks that no twin needs",
		Example: "  twinshelf shelf room --plan\n  twinshelf shelf room",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			var f keeping.Freed
			if plan {
				if f, err = keeping.Foreknow(cmd.Context(), w.Shelf); err != nil {
					return err
				}
			} else {
				r, freed := w.StartGiveBack(cmd.Context())
				if err := afterCancel(o.follow(r), "everything that twins need is on the shelf; the next time "+
					"begins anew"); err != nil {
					return err
				}
				f = freed()
			}
			if o.json {
				return o.print(struct {
					keeping.Freed
					Plan  bool          `json:"plan"`
					Takes time.Duration `json:"seconds"`
				}{f, plan, f.Estimate()})
			}
			if plan {
				o.say("%s; about %s.", f.Words(), units.Duration(f.Estimate()))
				return nil
			}
			o.say("%s.", f.Words())
			return nil
		},
	}
	c.Flags().BoolVar(&plan, "plan", false, "only show what would be done")
	return c
}

func journalCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "journal", Short: "Show what was dropped, mended and decided", Args: cobra.NoArgs,
		Example: "  twinshelf shelf journal",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			events, problems := w.Shelf.Journal(cmd.Context())
			if o.json {
				return o.print(map[string]any{"events": events, "problems": problems})
			}
			for _, e := range events {
				o.say("%s  %s", units.Moment(e.When),
					strings.Join(strings.Fields(fmt.Sprintf("%s %s %s", e.What, e.Machine, e.Twin)), " "))
				if e.Why != "" {
					o.say("    %s", e.Why)
				}
			}
			for _, p := range problems {
				fmt.Fprintln(o.err, "twinshelf: "+p.Error())
			}
			return nil
		},
	}
}
