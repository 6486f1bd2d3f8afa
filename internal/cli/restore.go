package cli

import (
	"bufio"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/prove"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func restoreCommand(o *options) *cobra.Command {
	var from int
	var confirm string
	var plan bool
	var f fitFlags
	c := &cobra.Command{
		Use:   "restore TWIN TARGET",
		Short: "Write a disk of a twin onto a target, read it back and prove it",
		Long: "Erases TARGET. On a larger target the main data part takes the room, and what is behind it\n" +
			"moves to the end; --keep, --grow, --size and --without wish for something else.\n" +
			"Before anything is written the target's last four serial characters (its size, when it\n" +
			"has no serial number) must be typed, or given with --confirm.",
		Example: "  twinshelf restore \"Ticket desk\" /dev/sdc\n" +
			"  twinshelf restore 20261030 7731 --plan\n" +
			"  twinshelf restore 20261030 7731 --grow 2 --grow 3:2     part 3 gets twice as much of the room as part 2\n" +
			"  twinshelf restore 20261030 7731 --size 3=400GB --without 4\n" +
			"  twinshelf restore \"Purser's laptop\" new.img --from-disk 2 --confirm \"500 GB\"",
		Args: exactly("the twin", "the target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(true)
			if err != nil {
				return err
			}
			t, err := findTwin(w.Shelf, args[0])
			if err != nil {
				return err
			}
			targets, err := o.probed(cmd.Context(), w, args[1])
			if err != nil {
				return err
			}
			if len(t.Disks) > 1 && from == 0 {
				return usageError{fmt.Errorf("this twin has %d disks: choose one with --from-disk, and restore each onto a target of its own", len(t.Disks))}
			}
			i := max(0, from-1)
			wish, err := f.wish(targets[0].Identity.Size)
			if err != nil {
				return err
			}
			p, err := w.PlanRestore(t, i, targets[0], wish)
			if err != nil {
				return err
			}
			s := workshop.SummarizeRestore(p, t, i, targets[0])
			if plan && o.json {
				return o.print(map[string]any{"summary": s, "parts": fitParts(p.Fit), "room": p.Fit.Room, "smallest": p.Fit.Least, "estimate_seconds": p.Estimate().Seconds()})
			}
			if !o.json {
				o.showSummary(s)
			}
			if plan {
				return nil
			}
			if err := o.confirm(s, confirm); err != nil {
				return err
			}
			r, proof := w.StartRestore(cmd.Context(), p, t, i)
			if err := o.follow(r); err != nil {
				return err
			}
			return o.showProof(proof())
		},
	}
	f.flags(c)
	c.Flags().IntVar(&from, "from-disk", 0, "which disk of the twin, from 1")
	c.Flags().StringVar(&confirm, "confirm", "", "the text that is otherwise asked for")
	c.Flags().BoolVar(&plan, "plan", false, "only say what would be done")
	return c
}

func (o *options) showSummary(s workshop.Summary) {
	block := func(title string, lines []string) {
		for i, l := range lines {
			if i > 0 {
				title = ""
			}
			o.say("%-12s %s", title, l)
		}
	}
	o.say("%s%s", strings.ToUpper(s.Head[:1]), s.Head[1:])
	block("Reads:", s.From)
	block("Writes to:", s.To)
	if len(s.Lost) == 0 {
		block("Lost:", []string{"nothing"})
	}
	block("Lost:", s.Lost)
	block("Stays:", s.Stays)
	block("Does:", s.Steps)
	block("Doubtful:", s.Doubts)
	block("Note:", s.Notes)
}

// confirm asks for the text that shows that the person looked at the target.
func (o *options) confirm(s workshop.Summary, given string) error {
	if given == "" {
		fmt.Fprintf(o.err, "To write, type %s of the target: ", s.What)
		line, err := bufio.NewReader(o.in).ReadString('\n')
		if err != nil && line == "" {
			return refusal{fmt.Errorf("nothing was written: there was nobody to confirm; use --confirm")}
		}
		given = line
	}
	if !strings.EqualFold(strings.TrimSpace(given), s.Confirm) {
		return refusal{fmt.Errorf("nothing was written: %q is not %s of the target", strings.TrimSpace(given), s.What)}
	}
	return nil
}

func proveCommand(o *options) *cobra.Command {
	var onto string
	var from int
	c := &cobra.Command{
		Use:   "prove TWIN",
		Short: "Read a twin back, every block, or compare a target with it",
		Example: "  twinshelf prove \"Ticket desk\"\n" +
			"  twinshelf prove 20261030 --target /dev/sdc",
		Args: exactly("the twin"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(true)
			if err != nil {
				return err
			}
			t, err := findTwin(w.Shelf, args[0])
			if err != nil {
				return err
			}
			if onto == "" {
				running, proof := w.StartProofTwin(cmd.Context(), t)
				if err := o.follow(running); err != nil {
					return err
				}
				return o.showProof(proof())
			}
			targets, err := o.probed(cmd.Context(), w, onto)
			if err != nil {
				return err
			}
			running, proof, err := w.StartProofTarget(cmd.Context(), t, max(0, from-1), targets[0])
			if err != nil {
				return err
			}
			if err := o.follow(running); err != nil {
				return err
			}
			return o.showProof(proof())
		},
	}
	c.Flags().StringVar(&onto, "target", "", "compare this disk with the twin")
	c.Flags().IntVar(&from, "from-disk", 0, "with --target: which disk of the twin, from 1")
	return c
}

func (o *options) showProof(p *shelf.Proof) error {
	if o.json {
		if err := o.print(p); err != nil {
			return err
		}
	} else {
		for _, c := range p.Claims {
			mark := "holds"
			if !c.Holds {
				mark = "FAILS"
			}
			o.say("%s  %s: %s\n       %s", mark, c.About, c.Says, c.Evidence)
		}
		o.say("Proof of %s: %s, %s compared.", p.Of, p.Words(), units.Bytes(p.Read))
	}
	if !p.Holds() {
		return fmt.Errorf("%w: %s; what holds can be used, look at the claims above", prove.ErrFails, p.Words())
	}
	return nil
}
