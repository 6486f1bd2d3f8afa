package cli

import (
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

func findCommand(o *options) *cobra.Command {
	var q names.Query
	var machine, kind string
	limit := 1000
	c := &cobra.Command{
		Use:   "find TEXT",
		Short: "Search names over all dates, parts and machines of the shelf",
		Long: "TEXT is part of a name, or a pattern with * ? and [ ] for the whole name; if it contains a /, whole " +
			"paths are searched.\n" +
			"Every item is listed once, with the newest date that has it and how many do. Give \"take\" the ID " +
			"at the " +
			"end of its line, and its place.",
		Example: "  twinshelf find fares\n  twinshelf find \"*.ods\" --machine \"Ticket desk\"\n  twinshelf find " +
			"\"mail/inbox*\" --json",
		Args: exactly("what to look for"),
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Text = args[0]
			kinds := map[string][]names.Kind{"": nil, "file": {names.File}, "folder": {names.Folder},
				"link": {names.Link}}
			k, ok := kinds[kind]
			if !ok || limit < 1 {
				return usageError{fmt.Errorf("--kind knows file, folder and link, and --limit numbers from 1")}
			}
			q.Kinds = k
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			lib, err := w.Library()
			if err != nil {
				return err
			}
			if err := o.keys.newest(cmd.Context(), o, w, machine); err != nil {
				return err
			}
			res, err := lib.Search(cmd.Context(), q, machine, limit, func(t *shelf.Twin, left int) {
				if o.quiet {
					return
				}
				fmt.Fprintf(o.err, "listing the names of %s of %s; %d to go\n", t.Machine, units.Moment(t.Taken), left)
			})
			if err != nil {
				return err
			}
			return o.showFound(res)
		},
	}
	c.Flags().StringVar(&machine, "machine", "", "only this machine")
	c.Flags().BoolVar(&q.Case, "case", false, "tell upper and lower case apart")
	c.Flags().BoolVar(&q.Hidden, "hidden", false, "include hidden and system items")
	c.Flags().StringVar(&kind, "kind", "", "only this kind: file, folder or link")
	c.Flags().IntVar(&limit, "limit", limit, "show at most this many items")
	return c
}

func (o *options) showFound(res *inside.Searched) error {
	if o.json {
		type at struct {
			Twin     string    `json:"twin"`
			Taken    time.Time `json:"taken"`
			Size     int64     `json:"size"`
			Modified time.Time `json:"modified"`
		}
		type found struct {
			inside.Found
			Kind string `json:"kind"`
			At   []at   `json:"at"`
		}
		all := []found{}
		for _, f := range res.Found {
			x := found{Found: f, Kind: inside.KindWord(f.Kind)}
			for _, a := range f.At {
				x.At = append(x.At, at{a.Twin.ID, a.Twin.Taken, a.Entry.Size, a.Entry.Modified})
			}
			all = append(all, x)
		}
		err := o.print(map[string]any{"found": all, "more": res.More, "twins_searched": res.Twins,
			"problems": res.Problems})
		return errors.Join(err, unsearched(res))
	}
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	for _, f := range res.Found {
		newest := f.At[0]
		size := inside.KindWord(f.Kind)
		if f.Kind == names.File {
			size = units.Bytes(newest.Entry.Size)
		}
		gone := ""
		if f.Gone {
			gone = "gone since"
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%d of %d dates\t%s\t%s\n", f.Machine, inside.Visible(f.Label()), size,
			units.Moment(newest.Twin.Taken), len(f.At), f.Of, newest.Twin.ID, gone)
	}
	t.Flush()
	if len(res.Found) == 0 {
		o.say("Nothing by that name in %s.", units.Plural(res.Twins, "twin"))
	}
	if res.More {
		o.say("There are more: --limit shows them.")
	}
	return unsearched(res)
}

// unsearched is the failure of a search that didn't see everything.
func unsearched(res *inside.Searched) error {
	if len(res.Problems) == 0 {
		return nil
	}
	return doubtful{fmt.Errorf("not everything could be searched: %s", strings.Join(res.Problems, "; "))}
}
