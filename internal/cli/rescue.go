package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/rescue"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// rescueFlags say what is got from failing drives, and how.
type rescueFlags struct {
	machine, note, until string
	without, first, from []string
	tries                int
	plan, unused, anew   bool
	yes                  map[capture.DoubtKind]*bool
}

func (f *rescueFlags) flags(c *cobra.Command) {
	fs := c.Flags()
	f.yes = map[capture.DoubtKind]*bool{
		capture.FewerDisks: fs.Bool("yes-"+string(capture.FewerDisks), false,
			"go on although the machine has more disks than these"),
		capture.OtherMachine: fs.Bool("yes-"+string(capture.OtherMachine), false,
			"go on with a disk that was captured as another machine's"),
		capture.NewMachine: fs.Bool("yes-"+string(capture.NewMachine), false,
			"take it for a new machine although one has nearly the same name"),
	}
	fs.StringVar(&f.machine, "machine", "", "name of the machine (default: the one these disks were captured as "+
		"before)")
	fs.StringVar(&f.note, "note", "", "a note that the twin carries")
	fs.StringVar(&f.until, "until", "single", "the last pass: look (what tells where everything lies), stride "+
		"(what is in "+
		"use, jumping on from bad places), narrow (close in on bad places), single (single sectors)")
	fs.IntVar(&f.tries, "tries", 1, "how often a bad sector is tried on its own, in all sittings together")
	fs.BoolVar(&f.unused, "unused", false, "read also what nobody uses: deleted things may be in it")
	fs.BoolVar(&f.anew, "anew", false, "begin a new rescue, although the shelf has one of these drives")
	fs.StringArrayVar(&f.without, "without", nil, "leave a part out: its number, or DISK:NUMBER with several disks; "+
		"may be repeated")
	fs.StringArrayVar(&f.first, "first", nil, "files and folders that come before the rest of what is in use, such as "+
		"3:Users/Maud or \"*.ods\"; may be repeated, the most valuable first")
	fs.StringArrayVar(&f.from, "fill-from", nil, "a drive that may have what these don't give any more, such as "+
		"the other "+
		"one of a mirror; it is only read, and only for files that its records prove to be the same; older "+
		"twins are used so "+
		"without asking")
	fs.BoolVar(&f.plan, "plan", false, "only show what would be done")
}

// passes are the names of the passes.
var passes = map[string]rescue.Pass{"look": rescue.Look, "stride": rescue.Stride, "narrow": rescue.Narrow,
	"single": rescue.Single}

func rescueCommand(o *options) *cobra.Command {
	var f rescueFlags
	c := &cobra.Command{
		Use:   "rescue DISK...",
		Short: "Get what can be got from failing drives, in as many sittings as it takes",
		Long: "Reads failing drives so that they are spared: what is precious first, then what is in use, " +
			"jumping on from\n" +
			"bad places and coming back to them later. What was read is on the shelf at once, as a twin that " +
			"says what is\n" +
			"missing. Stop it at any time; called again, on another day or machine, it goes on from there and reads\n" +
			"nothing good twice.",
		Example: "  twinshelf rescue E6F5\n" +
			"  twinshelf rescue E6F5 --until stride\n" +
			"  twinshelf rescue E6F5 --first 1:srv/crane --first \"*.csv\"\n" +
			"  twinshelf rescue E6F5 --tries 5\n" +
			"  twinshelf rescue --machine \"Ticket desk\" /dev/sdb --plan",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			disks, err := listed(w, args) // every read may be the last: they aren't looked at before
			if err != nil {
				return err
			}
			for _, d := range disks {
				if d.Problem == "" {
					d.Health = w.Bench.Health(cmd.Context(), d)
				}
			}
			p, err := f.planned(cmd, w, disks)
			if err != nil {
				return err
			}
			return rescueDrives(o, cmd, w, p, &f)
		},
	}
	f.flags(c)
	return c
}

// planned plans the sitting that the flags ask for.
func (f *rescueFlags) planned(cmd *cobra.Command, w *workshop.Workshop, disks []*bench.Disk) (*workshop.Rescue, error) {
	until, known := passes[f.until]
	if !known {
		return nil, usageError{fmt.Errorf("--until %s: the passes are look, stride, narrow and single", f.until)}
	}
	machine := f.machine
	if machine == "" {
		twins, _ := w.Shelf.Twins(cmd.Context())
		if machine = workshop.SuggestMachine(twins, disks); machine == "" {
			return nil, usageError{errors.New("give the machine a name with --machine: none of these disks is " +
				"known to have " +
				"been captured before")}
		}
	}
	leave, err := partsNamed(disks, "--without", f.without)
	if err != nil {
		return nil, err
	}
	p, err := w.PlanRescue(machine, disks, leave)
	if err != nil {
		return nil, err
	}
	p.Note, p.Until, p.Tries, p.Unused, p.Anew = f.note, until, f.tries, f.unused, f.anew
	p.First = f.first
	for _, ref := range f.from {
		other, err := listed(w, []string{ref})
		if err == nil {
			err = p.FillFromDisk(other[0])
		}
		if err != nil {
			p.Close()
			return nil, err
		}
	}
	if err := p.Check(cmd.Context()); err != nil {
		p.Close()
		return nil, usageError{err}
	}
	return p, nil
}

func rescueDrives(o *options, cmd *cobra.Command, w *workshop.Workshop, p *workshop.Rescue, f *rescueFlags) error {
	says := p.Words(cmd.Context())
	u := undertaking{plan: f.plan, planned: map[string]any{"machine": p.Machine, "sitting_words": says,
		"before_twin": p.Before(cmd.Context())}}
	u.show = func() {
		o.say("Rescue of %s:", p.Machine)
		for _, s := range says {
			o.say("  %s", s)
		}
	}
	begun := false
	defer func() {
		if !begun {
			p.Close()
		}
	}()
	for _, d := range capture.DoubtsOf(cmd.Context(), p.Shelf, p.Machine, p.Identities()) {
		u.doubts = append(u.doubts, doubt{d.Says, "--yes-" + string(d.Kind), *f.yes[d.Kind]})
	}
	u.work = func() error {
		begun = true
		r, result := w.StartRescue(cmd.Context(), p)
		err := afterCancel(o.follow(r), "what was read by then is on the shelf; the same command goes on from it")
		t := result()
		if t == nil {
			return err
		}
		return rescued(o, t, err)
	}
	return o.undertake(u)
}

// rescued says what a sitting came to.
func rescued(o *options, t *shelf.Twin, err error) error {
	if o.json {
		err = errors.Join(err, o.print(t))
	} else {
		o.say("Twin %s of %s: %s; %s got, %s new on the shelf.", t.ID, t.Machine, t.RescueWords(), units.Bytes(t.Used),
			units.Bytes(t.Added))
	}
	if n := t.Missing(); n > 0 && err == nil {
		return doubtful{fmt.Errorf("%s of what is used couldn't be read, or weren't tried yet; the twin says so",
			units.Bytes(n))}
	}
	return err
}
