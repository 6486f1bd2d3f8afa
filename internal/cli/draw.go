package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"twinshelf/internal/bench"
	"twinshelf/internal/job"
	"twinshelf/internal/scene"
	"twinshelf/internal/workshop"
)

func drawCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "draw", Short: "Draw disks, the shelf, a work or a comparison, as SVG or PDF",
		Long: "Every drawing is made into a new file that ends in .svg or .pdf. Text in it is text, and patterns\n" +
			"say what colours say, so that it can be printed in black.",
		Example: "  twinshelf draw disk \"Purser's laptop\" --to laptop.svg\n" +
			"  twinshelf draw history \"Ticket desk\" --to dates.pdf",
	}
	c.AddCommand(drawDiskCommand(o), drawMapCommand(o), drawBenchCommand(o), drawHistoryCommand(o),
		drawGrowthCommand(o),
		drawChangesCommand(o), drawRateCommand(o))
	return c
}

// drawing makes a command that draws something into the file that --to names.
func drawing(o *options, c *cobra.Command,
	made func(ctx context.Context, args []string) (*scene.Scene, error)) *cobra.Command {
	var to string
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if to == "" {
			return usageError{errors.New("name the file: --to FILE.svg, or --to FILE.pdf")}
		}
		s, err := made(cmd.Context(), args)
		if err != nil {
			return err
		}
		if err := workshop.SaveDrawing(s, to); err != nil {
			return err
		}
		if o.json {
			return o.print(map[string]any{"file": to})
		}
		o.say("Drawn: %s.", to)
		return nil
	}
	c.Flags().StringVar(&to, "to", "", "the file to make: .svg or .pdf; nothing is written over")
	return c
}

func drawDiskCommand(o *options) *cobra.Command {
	return drawing(o, &cobra.Command{
		Use: "disk REF", Short: "Draw the parts of a twin's disks, or of an attached disk, to scale", Long: refHelp,
		Example: "  twinshelf draw disk \"Purser's laptop\" --to laptop.svg\n  twinshelf draw disk 40B1 --to desk.pdf",
		Args:    exactly("a twin or a disk"),
	}, func(ctx context.Context, args []string) (*scene.Scene, error) {
		_, from, err := drawn(ctx, o, args[0])
		if err != nil {
			return nil, err
		}
		return workshop.DrawDisks(from), nil
	})
}

// drawn is the twin or the disk that is to be drawn.
func drawn(ctx context.Context, o *options, ref string) (*workshop.Workshop, workshop.Origin, error) {
	_, statErr := os.Stat(ref)
	w, err := o.workshop(ctx, false)
	if err != nil {
		return nil, workshop.Origin{}, err
	}
	from, err := o.insideLook.origin(ctx, w, ref, statErr == nil, probedOne)
	return w, from, err
}

func drawMapCommand(o *options) *cobra.Command {
	var number int
	c := drawing(o, &cobra.Command{
		Use: "map REF [PATH]", Short: "Draw where everything lies on a disk: used, free, unreadable, and one file",
		Long:    refHelp,
		Example: "  twinshelf draw map \"Harbour kiosk\" 2:srv/kiosk/fares-2026.csv --to fares.svg",
		Args:    cobra.RangeArgs(1, 2),
	}, func(ctx context.Context, args []string) (*scene.Scene, error) {
		w, from, err := drawn(ctx, o, args[0])
		if err != nil {
			return nil, err
		}
		from.Disk = number - 1
		if from.Twin != nil && (number < 1 || number > len(from.Twin.Disks)) || from.Twin == nil && number != 1 {
			return nil, usageError{fmt.Errorf("there is no disk %d", number)}
		}
		var file workshop.MapFile
		if len(args) == 2 {
			in, err := w.LookInto(ctx, from)
			if err != nil {
				return nil, err
			}
			p, it, path, err := resolve(ctx, w, in, args[1])
			if err != nil {
				return nil, err
			}
			if !it.Mode.IsRegular() {
				return nil, usageError{fmt.Errorf("%s is no file, so it has no place of its own to be shown", args[1])}
			}
			file, from.Disk = workshop.MapFile{Part: p, Path: path}, p.Disk
		}
		return w.DrawMap(ctx, from, file)
	})
	c.Flags().IntVar(&number, "number", 1, "which of the twin's disks")
	return c
}

func drawBenchCommand(o *options) *cobra.Command {
	return drawing(o, &cobra.Command{
		Use: "bench", Short: "Draw what is attached, as it is now", Args: cobra.NoArgs,
		Example: "  twinshelf draw bench --to bench.pdf",
	}, func(ctx context.Context, _ []string) (*scene.Scene, error) {
		w, err := o.workshop(ctx, false)
		if err != nil {
			return nil, err
		}
		disks, err := o.probed(ctx, w)
		if err != nil {
			return nil, err
		}
		if len(disks) == 0 {
			return nil, errors.New("no disk is attached, so there is nothing to draw")
		}
		return w.DrawBench(disks, func(d *bench.Disk) string { return w.About(ctx, d) }), nil
	})
}

func drawHistoryCommand(o *options) *cobra.Command {
	return drawing(o, &cobra.Command{
		Use:   "history [MACHINE]",
		Short: "Draw the dates on the shelf: what each brought, and which ones the rule would drop",
		Long:  "Without a machine all of the shelf's machines are drawn, with one their dates are listed too.",
		Example: "  twinshelf draw history --to oak.svg\n" +
			"  twinshelf draw history \"Ticket desk\" --to desk.pdf",
		Args: cobra.MaximumNArgs(1),
	}, func(ctx context.Context, args []string) (*scene.Scene, error) {
		w, err := o.workshop(ctx, true)
		if err != nil {
			return nil, err
		}
		machine := ""
		if len(args) == 1 {
			t, err := w.Shelf.Find(ctx, args[0])
			if err != nil {
				return nil, err
			}
			machine = t.Machine
		}
		return w.DrawHistory(ctx, machine)
	})
}

func drawGrowthCommand(o *options) *cobra.Command {
	return drawing(o, &cobra.Command{
		Use: "growth", Short: "Draw how the shelf grew, by machine, and when it will be full", Args: cobra.NoArgs,
		Example: "  twinshelf draw growth --to growth.pdf",
	}, func(ctx context.Context, _ []string) (*scene.Scene, error) {
		w, err := o.workshop(ctx, true)
		if err != nil {
			return nil, err
		}
		return w.DrawGrowth(ctx)
	})
}

func drawChangesCommand(o *options) *cobra.Command {
	return drawing(o, &cobra.Command{
		Use: "changes BEFORE AFTER [PATH]", Short: "Draw what grew, went and came between two dates, by folder",
		Long:    refHelp,
		Example: "  twinshelf draw changes 20261030 20261120 --to changes.svg",
		Args:    cobra.RangeArgs(2, 3),
	}, func(ctx context.Context, args []string) (*scene.Scene, error) {
		before, after, all, err := o.insideLook.compared(ctx, args, false)
		if err != nil {
			return nil, err
		}
		return workshop.DrawChanges(before, after, all), nil
	})
}

func drawRateCommand(o *options) *cobra.Command {
	var number int
	c := drawing(o, &cobra.Command{
		Use: "rate [CASE]", Short: "Draw how fast a work of a case went, with pauses and unreadable places",
		Long: "Without a case it is the chosen one. The last work with a rate on record is drawn, or the one\n" +
			"that --work counts from the first.",
		Example: "  twinshelf draw rate --to rate.pdf",
		Args:    cobra.MaximumNArgs(1),
	}, func(ctx context.Context, args []string) (*scene.Scene, error) {
		_, j, err := theJob(ctx, o, args)
		if err != nil {
			return nil, err
		}
		works := j.Works()
		switch {
		case number > len(works) || number < 0:
			return nil, usageError{fmt.Errorf("the case has %d works, so there is no work %d", len(works), number)}
		case number > 0:
			return workshop.DrawRate(works[number-1])
		}
		return workshop.DrawRate(lastPaced(works))
	})
	c.Flags().IntVar(&number, "work", 0, "which work of the case, counted from 1")
	return c
}

// lastPaced is the last work with a rate on record; an empty one when there is none.
func lastPaced(works []job.Done) job.Done {
	for i := len(works) - 1; i >= 0; i-- {
		if r := works[i].Result; r != nil && r.Pace != nil {
			return works[i]
		}
	}
	return job.Done{}
}
