package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/keeping"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

func checkCommand(o *options) *cobra.Command {
	var share float64
	var full, mend, forget bool
	var from string
	c := &cobra.Command{
		Use: "check", Short: "Check that everything on the shelf is there and is what was written",
		Long: "Without flags it looks whether every block is there, and reads nothing large. --full reads every " +
			"byte, --share a\n" +
			"part of the packs each time, those not read for the longest time first. A stopped check carries on " +
			"where it was.\n" +
			"--mend repairs what parity reaches; --from takes the rest from another shelf with the same twins.",
		Example: "  twinshelf shelf check\n  twinshelf shelf check --share 10\n  twinshelf shelf check --full --mend " +
			"--from Elm",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			if full {
				share = 100
			}
			if share < 0 || share > 100 {
				return usageError{fmt.Errorf("a share of %g %% can't be; give 0 to 100", share)}
			}
			if from != "" || forget {
				mend = true
			}
			r, report := w.StartCheck(cmd.Context(), keeping.CheckKind{Share: share / 100, Mend: mend})
			if err := afterCancel(o.follow(r), "what was read counts, and the next check goes on there"); err != nil {
				return err
			}
			rep := report()
			if from != "" && len(rep.Damage) > 0 {
				other, err := w.OpenOther(cmd.Context(), from)
				if err != nil {
					return err
				}
				defer other.Close()
				r, report = w.StartRefill(cmd.Context(), other, rep)
				if err := afterCancel(o.follow(r), "what came from the other shelf stays"); err != nil {
					return err
				}
				rep = report()
			}
			if forget && len(rep.Damage) > 0 {
				if err := keeping.ForgetHurt(cmd.Context(), w.Shelf, rep); err != nil {
					return err
				}
			}
			return o.showReport(rep, forget)
		},
	}
	c.Flags().Float64Var(&share, "share", 0, "read this share of the packs, in per cent")
	c.Flags().BoolVar(&full, "full", false, "read every byte")
	c.Flags().BoolVar(&mend, "mend", false, "mend what parity reaches")
	c.Flags().StringVar(&from, "from", "", "take what parity can't mend from another shelf: its folder or name")
	c.Flags().BoolVar(&forget, "recapture", false, "let the next capture that finds them store blocks again that "+
		"can't be recovered")
	return c
}

func (o *options) showReport(rep *keeping.Report, forgot bool) error {
	if o.json {
		if err := o.print(rep); err != nil {
			return err
		}
	} else {
		o.say("%s read in %d of %s, %s known.", units.Bytes(rep.Bytes), rep.Packs, units.Plural(rep.Of, "pack"),
			units.Plural(rep.Blocks, "block"))
		for _, m := range rep.Mended {
			o.say("  mended: %s", m)
		}
		for _, i := range rep.Idle {
			o.say("  of no use: %s", i)
		}
		for _, h := range rep.Hurt {
			o.say("  hurt: %s", h)
		}
		for _, l := range rep.ByTwin() {
			o.say("  %s", l)
		}
		for i, d := range rep.Damage {
			if i == 50 {
				o.say("  … and %d more", len(rep.Damage)-i)
				break
			}
			o.say("  missing: %s", d)
		}
		for _, f := range rep.Files {
			o.say("  files: %s", f)
		}
		if v := rep.Verdict(); v != "" {
			o.say("%s.", strings.ToUpper(v[:1])+v[1:])
		}
	}
	if rep.Sound() {
		return nil
	}
	what := "mend it with --mend, take it from another shelf with --from, or capture the machine again with --recapture"
	if forgot {
		what = "what is missing is stored again by the next capture that finds it"
	}
	return doubtful{fmt.Errorf("the shelf is hurt: %s, %s; %s", units.Plural(len(rep.Hurt), "file"),
		units.Plural(rep.Lost, "block"), what)}
}

func carryCommand(o *options) *cobra.Command {
	var retire bool
	c := &cobra.Command{
		Use: "carry TO [TWIN...]", Short: "Copy all or chosen twins to another shelf, and compare both",
		Long: "TO is the folder or the name of another shelf: make it first with \"twinshelf shelf new\". Either " +
			"may be " +
			"sealed.\n" +
			"Stopped and started again, it doesn't copy again what has already arrived.",
		Example: "  twinshelf shelf carry /media/elm\n  twinshelf shelf carry Elm \"Ticket desk\"\n  twinshelf shelf " +
			"carry Elm --retire",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usageError{fmt.Errorf("%s needs the other shelf", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			var twins []*shelf.Twin
			for _, ref := range args[1:] {
				t, err := findTwin(cmd.Context(), w.Shelf, ref)
				if err != nil {
					return err
				}
				twins = append(twins, t)
			}
			to, err := w.OpenOther(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer to.Close()
			r, moved := w.StartCarry(cmd.Context(), to, twins)
			err = afterCancel(o.follow(r), "the twins that arrived are whole; the next time goes on with the others")
			m := moved()
			if err == nil && retire {
				err = w.Replace(cmd.Context(), to)
			}
			if o.json {
				if e := o.print(m); e != nil {
					return e
				}
			} else {
				o.showStandings(m.Compared, w.Shelf.Head().Name, to.Head().Name)
				o.say("%s.", m.Words())
			}
			return err
		},
	}
	c.Flags().BoolVar(&retire, "retire", false, "once everything is there, take no more captures on this shelf")
	return c
}

func shelvesCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "compare OTHER", Short: "Put the dates of two shelves side by side",
		Example: "  twinshelf shelf compare Elm", Args: exactly("the other shelf"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			other, err := w.OpenOther(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer other.Close()
			all, problems := keeping.Compare(cmd.Context(), w.Shelf, other)
			if o.json {
				return o.print(map[string]any{"twins": all, "problems": problems})
			}
			o.showStandings(all, w.Shelf.Head().Name, other.Head().Name)
			for _, p := range problems {
				fmt.Fprintln(o.err, "twinshelf: "+p.Error())
			}
			return nil
		},
	}
}

// standing says where a twin stands in a word.
func standing(s keeping.Standing) string {
	switch {
	case s.Differ:
		return "DIFFERENT"
	case s.Here && s.There:
		return "same"
	case s.Here:
		return "only here"
	}
	return "only there"
}

func (o *options) showStandings(all []keeping.Standing, here, there string) {
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	fmt.Fprintf(t, "machine\tdate\t%s\t%s\t\n", here, there)
	for _, s := range all {
		mark := map[bool]string{true: "■", false: "–"}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", s.Machine, units.Moment(s.Taken), mark[s.Here], mark[s.There],
			standing(s))
	}
	t.Flush()
}

func retireCommand(o *options) *cobra.Command {
	var note string
	var off bool
	c := &cobra.Command{
		Use: "retire", Short: "Take no more captures on this shelf, or take it into use again with --off",
		Args:    cobra.NoArgs,
		Example: "  twinshelf shelf retire --note \"replaced by Elm\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			if off {
				err = w.Shelf.Unretire(cmd.Context())
			} else {
				err = w.Shelf.Retire(cmd.Context(), note)
			}
			if err == nil && o.json {
				return o.print(map[string]any{"retired": !off, "note": note})
			}
			if err == nil {
				o.say("%s %s.", w.Shelf.Head().Name, map[bool]string{true: "is in use again", false: "is retired"}[off])
			}
			return err
		},
	}
	c.Flags().StringVar(&note, "note", "retired", "why")
	c.Flags().BoolVar(&off, "off", false, "take it into use again")
	return c
}

func knownCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "known", Short: "List the shelves that were open here", Args: cobra.NoArgs,
		Example: "  twinshelf shelf known",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			all := w.Known(cmd.Context())
			if o.json {
				var out []answer.KnownShelf
				for _, k := range all {
					out = append(out, answer.KnownShelf{ID: k.ID, Name: k.Name, Path: k.Path, Seen: k.Seen,
						Sealed: k.Sealed, TwinCount: k.Twins, Drive: k.Drive, Here: k.Here, Open: k.Open})
				}
				return o.print(map[string]any{"shelves": out})
			}
			for _, k := range all {
				o.say("%s", k.Words())
			}
			if len(all) == 0 {
				o.say("No shelf was open here yet.")
			}
			return nil
		},
	}
}
