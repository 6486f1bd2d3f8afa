package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/job"
	"twinshelf/internal/sheet"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func jobCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "job", Short: "Customers' cases: what was done to which disk, on record",
		Long: "A case opens by itself with the first work on a machine. Everything that is done to that machine's\n" +
			"disks comes into it, here and on the open shelf. CASE is a number, an ID or the name of a machine;\n" +
			"without one it is the case that is chosen.",
		Example: "  twinshelf job new --machine \"Ticket desk\" --customer \"Maud Ellingsen\"\n" +
			"  twinshelf job show\n  twinshelf job note \"the old drive clicks\"\n  twinshelf job list crane",
		Args: cobra.NoArgs,
	}
	c.AddCommand(listJobsCommand(o), showJobCommand(o), newJobCommand(o), changeJobCommand(o), noteJobCommand(o),
		lookJobCommand(o), sheetCommand(o), shopCommand(o),
		jobStateCommand(o, "use CASE", "Choose a case: what is done from now on belongs to it",
			"is chosen", (*workshop.Workshop).UseOpenJob),
		jobStateCommand(o, "close [CASE]", "Close a case", "is closed",
			func(w *workshop.Workshop, ctx context.Context, j *job.Job) error { return w.CloseJob(ctx, j) }),
		jobStateCommand(o, "reopen CASE", "Open a closed case again, and choose it", "is open again",
			func(w *workshop.Workshop, ctx context.Context, j *job.Job) error { return w.ReopenJob(ctx, j) }))
	return c
}

func listJobsCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "list [TEXT]", Short: "List the cases, or those that have a text in them", Args: cobra.MaximumNArgs(1),
		Example: "  twinshelf job list\n  twinshelf job list 7731",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			jobs, problems := w.Jobs(cmd.Context())
			var found []*job.Job
			for _, j := range jobs {
				if len(args) == 0 || j.Has(args[0]) {
					found = append(found, j)
				}
			}
			if o.json {
				var out []answer.Job
				for _, j := range found {
					out = append(out, answer.JobOf(j, isChosen(w, j)))
				}
				return o.print(map[string]any{"jobs": out, "problems": texts(problems)})
			}
			for _, p := range problems {
				fmt.Fprintln(o.err, "twinshelf: "+p.Error())
			}
			showJobs(o, w, found)
			return nil
		},
	}
}

func isChosen(w *workshop.Workshop, j *job.Job) bool {
	chosen := w.Job()
	return chosen != nil && chosen.ID == j.ID
}

func showJobs(o *options, w *workshop.Workshop, jobs []*job.Job) {
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	for _, j := range jobs {
		state := "open"
		switch {
		case !j.Open():
			state = "closed " + j.Closed.Local().Format("2006-01-02")
		case isChosen(w, j):
			state = "chosen"
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\n", j.Number, j.Machine, j.Customer,
			j.Opened.Local().Format("2006-01-02"), units.Plural(len(j.Works()), "work"), state)
	}
	t.Flush()
	if len(jobs) == 0 {
		o.say("No case is on record: the first capture or restore opens one, or \"twinshelf job new\".")
	}
}

// theJob opens the workshop and finds a case by its name; without one it is the chosen one.
func theJob(ctx context.Context, o *options, args []string) (*workshop.Workshop, *job.Job, error) {
	w, err := o.workshop(ctx, false)
	if err != nil {
		return nil, nil, err
	}
	if len(args) > 0 {
		jobs, _ := w.Jobs(ctx) // what can't be read of them is said where they are listed
		j, err := job.Find(jobs, args[0])
		return w, j, err
	}
	if j := w.Job(); j != nil {
		return w, j, nil
	}
	return nil, nil, usageError{errors.New("no case is chosen; name one: \"twinshelf job list\" lists them")}
}

func showJobCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "show [CASE]", Short: "Show what a case is about and what was done in it", Args: cobra.MaximumNArgs(1),
		Example: "  twinshelf job show\n  twinshelf job show \"Harbour kiosk\" --json",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, j, err := theJob(cmd.Context(), o, args)
			if err != nil {
				return err
			}
			return showJob(o, w, j)
		},
	}
}

func showJob(o *options, w *workshop.Workshop, j *job.Job) error {
	if o.json {
		return o.print(answer.JobOf(j, isChosen(w, j)))
	}
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	for _, f := range j.About() {
		fmt.Fprintf(t, "%s\t%s\n", f[0], f[1])
	}
	fmt.Fprintf(t, "Opened\t%s\n", units.Moment(j.Opened.Local()))
	if !j.Open() {
		fmt.Fprintf(t, "Closed\t%s\n", units.Moment(j.Closed.Local()))
	}
	t.Flush()
	for _, e := range j.Entries {
		if e.Kind == job.Noted {
			o.say("%s  note: %s", units.Moment(e.At.Local()), e.Note)
		}
	}
	for _, e := range j.Looks() {
		o.say("%s  looked at %s: %s", units.Moment(e.At.Local()), sheet.Sticker(*e.Look), e.Look.Words)
	}
	for _, d := range j.Works() {
		o.say("%s  %s: %s", units.Moment(d.Begun.Local()), d.Title, d.Words())
	}
	for _, p := range j.Problems {
		fmt.Fprintln(o.err, "twinshelf: "+p.Error())
	}
	return nil
}

// caseFlags say what a case is about.
func caseFlags(c *cobra.Command, about *job.Case) {
	f := c.Flags()
	f.StringVar(&about.Number, "number", about.Number, "its number (default: the next one)")
	f.StringVar(&about.Customer, "customer", "", "whose machine it is")
	f.StringVar(&about.Contact, "contact", "", "how the customer is reached")
	f.StringVar(&about.Machine, "machine", "", "the machine's name on the shelf")
	f.StringVar(&about.Maker, "maker", "", "who made the machine")
	f.StringVar(&about.Model, "model", "", "model of the machine")
	f.StringVar(&about.Serial, "serial", "", "serial number of the machine")
	f.StringVar(&about.Asked, "asked", "", "what the customer asked for")
	f.StringVar(&about.Technician, "technician", "", "who works on it")
}

func newJobCommand(o *options) *cobra.Command {
	var about job.Case
	var this bool
	c := &cobra.Command{
		Use: "new", Short: "Open a case, and choose it", Args: cobra.NoArgs,
		Example: "  twinshelf job new --machine Weighbridge --asked \"a copy of everything before the winter\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			if this {
				if err := thisComputer(w, &about); err != nil {
					return err
				}
			}
			j, err := w.NewJob(cmd.Context(), about)
			if err != nil {
				return err
			}
			if o.json {
				return o.print(answer.JobOf(j, true))
			}
			o.say("Case %s is open.", j.Title())
			return nil
		},
	}
	caseFlags(c, &about)
	c.Flags().BoolVar(&this, "this-computer", false, thisHelp)
	return c
}

func changeJobCommand(o *options) *cobra.Command {
	var given job.Case
	var this bool
	c := &cobra.Command{
		Use: "change [CASE]", Short: "Change what a case is about; what isn't named stays", Args: cobra.MaximumNArgs(1),
		Example: "  twinshelf job change \"Harbour kiosk\" --number 2026-114 --contact \"the harbour office\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, j, err := theJob(cmd.Context(), o, args)
			if err != nil {
				return err
			}
			about := j.Case
			if this {
				if err := thisComputer(w, &about); err != nil {
					return err
				}
			}
			for name, to := range map[string]struct{ at, from *string }{"number": {&about.Number, &given.Number},
				"customer": {&about.Customer, &given.Customer}, "contact": {&about.Contact, &given.Contact},
				"machine": {&about.Machine, &given.Machine}, "maker": {&about.Maker, &given.Maker},
				"model": {&about.Model, &given.Model}, "serial": {&about.Serial, &given.Serial},
				"asked": {&about.Asked, &given.Asked}, "technician": {&about.Technician, &given.Technician}} {
				if cmd.Flags().Changed(name) {
					*to.at = strings.TrimSpace(*to.from)
				}
			}
			if err := w.ChangeJob(cmd.Context(), j, about); err != nil {
				return err
			}
			j.Case = about
			return showJob(o, w, j)
		},
	}
	caseFlags(c, &given)
	c.Flags().BoolVar(&this, "this-computer", false, thisHelp)
	return c
}

func noteJobCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "note [CASE] TEXT", Short: "Add a note to a case", Args: cobra.RangeArgs(1, 2),
		Example: "  twinshelf job note \"Harbour kiosk\" \"the fan was replaced\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			text := args[len(args)-1]
			w, j, err := theJob(cmd.Context(), o, args[:len(args)-1])
			if err != nil {
				return err
			}
			if err := w.NoteJob(cmd.Context(), j, text); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"job": j.ID, "note": text})
			}
			o.say("Noted in case %s.", j.Title())
			return nil
		},
	}
}

// thisHelp is the help of --this-computer.
const thisHelp = "the case is about the computer that this runs on: its firmware tells maker, model and " +
	"serial number"

func lookJobCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "look DISK...", Short: "Enter what attached disks are like now into the chosen case",
		Long: "What is read of a disk without any work on it: its identity, its parts, and what they hold.\n" +
			"A disk that hasn't changed since isn't entered again.",
		Example: "  twinshelf job look 40B1", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, j, err := theJob(cmd.Context(), o, nil)
			if err != nil {
				return err
			}
			disks, err := o.probed(cmd.Context(), w, args...)
			if err != nil {
				return err
			}
			n := 0
			for _, d := range disks {
				entered, err := w.LookJob(cmd.Context(), j, d)
				if err != nil {
					return err
				}
				if entered {
					n++
				}
			}
			if o.json {
				return o.print(map[string]any{"job": j.ID, "entered": n})
			}
			o.say("%s of %d entered into case %s.", units.Plural(n, "disk"), len(disks), j.Title())
			return nil
		},
	}
}

// thisComputer fills in what the firmware of this computer tells, where nothing else is given.
func thisComputer(w *workshop.Workshop, about *job.Case) error {
	c := w.Computer()
	if c.Name() == "" && c.Maker == "" {
		return errors.New("the firmware of this computer tells neither its maker nor its model")
	}
	about.Maker, about.Model, about.Serial = c.Maker, c.Model, c.Serial
	return nil
}

// jobStateCommand makes a command that changes the state of a case.
func jobStateCommand(o *options, use, short, says string,
	do func(*workshop.Workshop, context.Context, *job.Job) error) *cobra.Command {
	verb, names, _ := strings.Cut(use, " ")
	count := cobra.MaximumNArgs(1)
	if !strings.HasPrefix(names, "[") {
		count = exactly("the case")
	}
	return &cobra.Command{
		Use: use, Short: short, Args: count, Example: "  twinshelf job " + verb + " \"Harbour kiosk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, j, err := theJob(cmd.Context(), o, args)
			if err != nil {
				return err
			}
			if err := do(w, cmd.Context(), j); err != nil {
				return err
			}
			if o.json {
				jobs, _ := w.Jobs(cmd.Context())
				now, err := job.Find(jobs, j.ID)
				if err != nil {
					return err
				}
				return o.print(answer.JobOf(now, isChosen(w, now)))
			}
			o.say("Case %s %s.", j.Title(), says)
			return nil
		},
	}
}
