package cli

import (
	"context"
	"fmt"
	"os"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/inside"
)

func compareCommand(o *options) *cobra.Command {
	var contents bool
	c := &cobra.Command{
		Use:   "compare BEFORE AFTER [PATH]",
		Short: "Show what came, went, changed and moved between two dates",
		Long: "Compares two twins, or a twin and an attached disk, part by part or in one folder, by names, sizes, " +
			"times and identities.\n" + refHelp +
			"With --contents, files of the same size that differ only in time are read, and left out if they are " +
			"equal.",
		Example: "  twinshelf compare 20261030 20261120\n  twinshelf compare 20261019 \"Harbour kiosk\" " +
			"2:srv/kiosk\n  twinshelf compare 20261030 /dev/sdb --contents",
		Args: cobra.RangeArgs(2, 3),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, after, all, err := o.insideLook.compared(cmd.Context(), args, contents)
			if err != nil {
				return err
			}
			return o.showDifferences(after, all)
		},
	}
	c.Flags().BoolVar(&contents, "contents", false, "read files that differ only in time")
	return c
}

// compared are what the arguments of a comparison mean, and what differs; with contents, files that differ only in time
// are read.
func (o *insideLook) compared(ctx context.Context, args []string, contents bool) (before, after *inside.Machine,
	all []inside.PartDifference, err error) {
	w, before, err := o.look(ctx, args[0])
	if err != nil {
		return nil, nil, nil, err
	}
	_, statErr := os.Stat(args[1])
	if after, err = o.lookWith(ctx, w, args[1], statErr == nil); err != nil {
		return nil, nil, nil, err
	}
	var only *inside.Part
	folder := ""
	if len(args) == 3 {
		if only, folder, err = folderOf(ctx, before, after, args[2]); err != nil {
			return nil, nil, nil, err
		}
	}
	lib, _ := w.Library() // two disks need none
	if all, err = inside.Compare(ctx, lib, before, after, only, folder); err != nil {
		return nil, nil, nil, err
	}
	for i := range all {
		if !contents {
			break
		}
		if err := inside.ConfirmDifferences(ctx, before, &all[i]); err != nil {
			return nil, nil, nil, err
		}
	}
	return before, after, all, nil
}

// folderOf finds the folder that a comparison is about; it may be gone since.
func folderOf(ctx context.Context, before, after *inside.Machine, text string) (*inside.Part, string, error) {
	only, it, folder, err := after.Resolve(ctx, text)
	if err != nil {
		if only, it, folder, err = before.Resolve(ctx, text); err != nil {
			return nil, "", err
		}
		if only, err = after.Part(only.Disk+1, only.Number); err != nil {
			return nil, "", err
		}
	}
	if !it.IsDir() {
		return nil, "", usageError{fmt.Errorf("%s is no folder; \"list --dates\" follows one item", text)}
	}
	return only, folder, nil
}

func (o *options) showDifferences(in *inside.Machine, all []inside.PartDifference) error {
	type difference struct {
		Way    string `json:"way"`
		Path   string `json:"path"`
		From   string `json:"moved_from,omitempty"`
		Was    int64  `json:"was"`
		Is     int64  `json:"is"`
		Below  int    `json:"below,omitempty"`
		Unsure bool   `json:"contents_may_be_equal,omitempty"`
	}
	type part struct {
		answer.Part
		Unknown string       `json:"unknown,omitempty"`
		All     []difference `json:"differences"`
	}
	out := []part{}
	for _, d := range all {
		p := part{answer.PartInside(d.Part), d.Why, []difference{}}
		for _, x := range d.All {
			p.All = append(p.All, difference{x.Way.String(), x.Path, x.From, x.Old.Size, x.New.Size, x.Below, x.Unsure})
		}
		out = append(out, p)
		if o.json {
			continue
		}
		o.say("%s: %s", d.Part.Label("", in.Disks)+" "+d.Part.Name(), inside.DifferenceWords(d))
		t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
		for _, x := range d.All {
			fmt.Fprintf(t, "  %s\t%s\t%s\n", x.Way, inside.DifferenceSize(x),
				inside.Visible(inside.DifferencePath(x)))
		}
		t.Flush()
	}
	if o.json {
		return o.print(map[string]any{"parts": out})
	}
	return nil
}
