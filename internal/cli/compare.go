package cli

import (
	"fmt"
	"os"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/fsys"
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
			ctx := cmd.Context()
			w, before, err := o.insideLook.look(ctx, args[0])
			if err != nil {
				return err
			}
			_, statErr := os.Stat(args[1])
			after, err := o.insideLook.lookWith(ctx, w, args[1], statErr == nil)
			if err != nil {
				return err
			}
			var only *inside.Part
			folder := ""
			if len(args) == 3 {
				var it fsys.Item
				if only, it, folder, err = after.Resolve(ctx, args[2]); err != nil {
					if only, it, folder, err = before.Resolve(ctx, args[2]); err != nil {
						return err
					}
					if only, err = after.Part(only.Disk+1, only.Number); err != nil {
						return err
					}
				}
				if !it.IsDir() {
					return usageError{fmt.Errorf("%s is no folder; \"list --dates\" follows one item", args[2])}
				}
			}
			lib, _ := w.Library() // two disks need none
			all, err := inside.Compare(ctx, lib, before, after, only, folder)
			if err != nil {
				return err
			}
			for i := range all {
				if contents {
					if err := inside.ConfirmDifferences(ctx, before, &all[i]); err != nil {
						return err
					}
				}
			}
			return o.showDifferences(after, all)
		},
	}
	c.Flags().BoolVar(&contents, "contents", false, "read files that differ only in time")
	return c
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
