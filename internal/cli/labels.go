package cli

import (
	"context"
	"errors"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/sheet"
	"twinshelf/internal/workshop"
)

func shelfListCommand(o *options) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use: "list", Short: "Make the list of what is on the shelf, by machine and date, for the file",
		Args:    cobra.NoArgs,
		Example: "  twinshelf shelf list --to oak.pdf",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := onlyPDF(to); err != nil {
				return err
			}
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			l, noLogo, err := w.ShelfList(cmd.Context())
			if err != nil {
				return err
			}
			o.withoutLogo(noLogo)
			b, err := l.PDF()
			if err != nil {
				return err
			}
			if err := workshop.WriteNew(to, b); err != nil {
				return err
			}
			if o.json {
				err = o.print(map[string]any{"file": to, "bytes": len(b)})
			} else {
				o.say("What is on %s is listed in %s.", l.Shelf, to)
			}
			return errors.Join(err, unread(l.Problems))
		},
	}
	c.Flags().StringVar(&to, "to", "", "the file to make: .pdf; nothing is written over")
	return c
}

// onlyPDF says what is wrong with the name of a paper.
func onlyPDF(file string) error {
	if !strings.EqualFold(filepath.Ext(file), ".pdf") {
		return usageError{errors.New("name the file: --to FILE.pdf")}
	}
	return nil
}

// labelFlags say what labels are for, and on what they are printed.
type labelFlags struct {
	to, grid, offset string
	skip, copies     int
	shelf, stick     bool
	texts            []string
}

func labelsCommand(o *options) *cobra.Command {
	var f labelFlags
	c := &cobra.Command{
		Use: "labels [REF...]", Short: "Make sheets of labels for drives and sticks",
		Long: "A label says what a drive is, whose, when, and on which shelf, and has a square to be scanned.\n" +
			"REF is an attached disk, or a twin: then each of its disks gets one. Print them at their real\n" +
			"size (100 %, not fitted to the page). \"job shop\" remembers the sheets and the offset.",
		Example: "  twinshelf labels 40B1 7731 --to labels.pdf\n" +
			"  twinshelf labels \"Purser's laptop\" --grid A4-24 --skip 5 --to purser.pdf\n" +
			"  twinshelf labels --for-shelf --for-stick --copies 2 --to drives.pdf\n" +
			"  twinshelf labels --text \"Spare drive|for the kiosk|tested 20 Nov\" --offset 0.5,-1 --to spare.pdf",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := onlyPDF(f.to); err != nil {
				return err
			}
			w, err := o.workshop(cmd.Context(), f.shelf)
			if err != nil {
				return err
			}
			l, err := labelsFor(cmd.Context(), o, w, args, &f)
			if err != nil {
				return err
			}
			b, err := l.PDF()
			if err != nil {
				return usageError{err}
			}
			if err := workshop.WriteNew(f.to, b); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"file": f.to, "bytes": len(b), "labels": len(l.All)})
			}
			o.say("%d on %s: %s. Print at 100 %%.", len(l.All), l.Grid.Name, f.to)
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&f.to, "to", "", "the file to make: .pdf; nothing is written over")
	fl.StringVar(&f.grid, "grid", "", "sheets of labels, by paper and how many are on it: "+
		strings.Join(sheet.GridNames(), ", "))
	fl.StringVar(&f.offset, "offset", "", "RIGHT,DOWN: move the labels by so many millimetres")
	fl.IntVar(&f.skip, "skip", 0, "how many labels on the first sheet are already used")
	fl.IntVar(&f.copies, "copies", 1, "how many of each")
	fl.BoolVar(&f.shelf, "for-shelf", false, "one for the drive that the shelf lies on")
	fl.BoolVar(&f.stick, "for-stick", false, "one for a stick that starts PCs")
	fl.StringArrayVar(&f.texts, "text", nil, "one with \"TITLE|LINE|LINE\"; may be repeated")
	return c
}

// labelsFor are the labels that were asked for.
func labelsFor(ctx context.Context, o *options, w *workshop.Workshop, refs []string,
	f *labelFlags) (sheet.Labels, error) {
	var each []sheet.Label
	for _, ref := range refs {
		_, from, err := drawn(ctx, o, ref)
		switch {
		case err != nil:
			return sheet.Labels{}, err
		case from.Twin != nil:
			each = append(each, w.TwinLabels(from.Twin)...)
		default:
			each = append(each, w.DiskLabel(ctx, from.Bench))
		}
	}
	if f.shelf {
		l, err := w.ShelfLabel()
		if err != nil {
			return sheet.Labels{}, err
		}
		each = append(each, l)
	}
	if f.stick {
		each = append(each, w.StickLabel())
	}
	for _, text := range f.texts {
		lines := strings.Split(text, "|")
		each = append(each, sheet.Label{Title: lines[0], Lines: lines[1:]})
	}
	var all []sheet.Label
	for _, l := range each {
		for range min(max(f.copies, 1), 1000) {
			all = append(all, l)
		}
	}
	out, err := w.Labels(all)
	if f.grid != "" {
		out.Grid, err = sheet.GridNamed(f.grid)
	}
	if f.offset != "" && err == nil {
		out.Right, out.Below, err = sheet.Offset(f.offset)
	}
	if err != nil {
		err = usageError{err}
	}
	out.Skip = f.skip
	return out, err
}
