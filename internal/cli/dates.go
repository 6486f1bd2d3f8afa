package cli

import (
	"context"
	"errors"
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/disk"
	"twinshelf/internal/inside"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func datesCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "dates [TWIN]",
		Short: "List the twins by machine and date, or show one of them",
		Long:  "TWIN is the ID of a twin, the beginning of one, or the name of a machine for its newest twin.",
		Example: "  twinshelf dates --shelf /media/oak\n" +
			"  twinshelf dates \"Ticket desk\"\n  twinshelf dates 20261120 --json",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return o.showTwin(cmd.Context(), w.Shelf, args[0])
			}
			twins, problems := w.Shelf.Twins(cmd.Context())
			kept, err := w.Shelf.Pins(cmd.Context())
			if err != nil {
				return err
			}
			if o.json {
				err := o.print(map[string]any{"twins": datedTwins(cmd.Context(), w.Shelf, twins, kept),
					"vanished": w.Missing(), "problems": problems})
				return errors.Join(err, unread(problems))
			}
			t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
			for _, tw := range twins {
				fmt.Fprintf(t, "%s\t%s\t%s\t%s used\t%s new\t%s\t%s\n", tw.Machine, units.Moment(tw.Taken),
					units.Plural(len(tw.Disks), "disk"),
					units.Bytes(tw.Used), units.Bytes(tw.Added), workshop.TwinMarks(cmd.Context(), w.Shelf, tw,
						kept), tw.ID)
			}
			t.Flush()
			if len(twins) == 0 {
				o.say("The shelf holds no twins yet: \"twinshelf capture\" makes one.")
			}
			for _, m := range w.Missing() {
				fmt.Fprintln(o.err, "twinshelf: "+m)
			}
			for _, p := range problems {
				fmt.Fprintln(o.err, "twinshelf: "+p.Error())
			}
			return unread(problems)
		},
	}
}

// unread is the failure of a command that couldn't read all twins.
func unread(problems []error) error {
	if len(problems) == 0 {
		return nil
	}
	return doubtful{fmt.Errorf("%s could not be read; the others are not affected",
		units.Plural(len(problems), "twin"))}
}

// datedTwins adds to twins what is known of them since.
func datedTwins(ctx context.Context, s *shelf.Shelf, twins []*shelf.Twin,
	kept map[string]shelf.Pin) []answer.DatedTwin {
	var out []answer.DatedTwin
	proved := shelf.ProofsOf(ctx, s, shelf.IDsOf(twins))
	for i, t := range twins {
		d := answer.DatedTwin{Twin: answer.TwinOf(t)}
		if m, yes := kept[t.ID]; yes {
			d.Kept, d.KeptNote = true, m.Note
		}
		d.Proofs, d.ProofsUnread = proved[i].Proofs, texts(proved[i].Problems)
		if of := shelf.ShelfProofs(d.Proofs); len(of) > 0 {
			d.Proof = of[0]
		}
		out = append(out, d)
	}
	return out
}

func (o *options) showTwin(ctx context.Context, s *shelf.Shelf, ref string) error {
	tw, err := findTwin(ctx, s, ref)
	if err != nil {
		return err
	}
	proofs, _ := s.Proofs(ctx, tw.ID)
	kept, err := s.Pins(ctx)
	if err != nil {
		return err
	}
	if o.json {
		return o.print(map[string]any{"twins": datedTwins(ctx, s, []*shelf.Twin{tw}, kept)})
	}
	o.say("%s, %s", tw.Machine, units.Moment(tw.Taken))
	o.say("  twin %s, made by %s in %.0f s", tw.ID, tw.Tool, tw.Seconds)
	o.say("  %s used, %s new on the shelf; %s", units.Bytes(tw.Used), units.Bytes(tw.Added), workshop.TwinMarks(ctx,
		s, tw, kept))
	if words := tw.Packing.Words(); words != "" {
		o.say("  packed %s", words)
	}
	if tw.Note != "" {
		o.say("  note: %s", tw.Note)
	}
	if m, yes := kept[tw.ID]; yes && m.Note != "" {
		o.say("  kept for ever: %s", m.Note)
	}
	for i, d := range tw.Disks {
		o.say("  disk %d: %s, %s", i+1, disk.Sticker(d.Identity), orNone(string(d.Table.Kind)))
		t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
		for _, r := range d.Parts() {
			state := units.Bytes(r.Used) + " used\t" + units.Bytes(r.Added) + " new"
			switch {
			case !r.Captured:
				state = "left out\t"
			case r.Unclean != "":
				state += "\t" + r.Unrest()
			case r.Trusted > 0:
				state += "\t" + units.Bytes(r.Trusted) + " unchanged by the file system's records, not read again"
			case r.Shrinks() != "":
				state += "\t" + r.Shrinks()
			}
			fmt.Fprintf(t, "    %d\t%s\t%s\t%s\t%s\t%s\n", r.Part, r.Role, r.Kind, r.Title(),
				units.Bytes(r.Span.Len()), state)
		}
		t.Flush()
		for sp := range d.Missing.All() {
			o.say("    could not be read: bytes %d to %d", sp.Start, sp.End-1)
		}
		if !d.Missing.Empty() {
			if dev, err := s.OpenDisk(ctx, tw, i); err == nil {
				if t, err := inside.FilesIn(ctx, dev, d.Missing); err == nil {
					o.say("    files: %s", t.Words(40))
				}
			}
		}
	}
	for _, p := range proofs {
		o.say("  proof of %s on %s: %s", p.Of, units.Moment(p.When), p.Words())
	}
	return nil
}
