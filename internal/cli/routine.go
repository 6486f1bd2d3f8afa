package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/routine"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

const exampleRoutine = `  twinshelf routine new "Ticket desk, evenings" 40B1 --machine "Ticket desk" ` +
	`--when "every day at 18:30"`

func routineCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "routine", Short: "Work that is saved by name and happens by itself",
		Long: "A routine says which disks of which machine are captured onto which shelf, and when. It knows\n" +
			"disks by their serial numbers. \"routine watch\" runs what is due, \"routine run\" runs one now.\n" +
			"NAME is the name of a routine, or its beginning.",
		Example: exampleRoutine + "\n  twinshelf routine list\n  twinshelf routine run \"Ticket desk\"",
		Args:    cobra.NoArgs,
	}
	c.AddCommand(newRoutineCommand(o), listRoutinesCommand(o), showRoutineCommand(o), runRoutineCommand(o),
		pauseRoutineCommand(o), resumeRoutineCommand(o), removeRoutineCommand(o), importRoutineCommand(o),
		exportRoutineCommand(o), watchRoutinesCommand(o), dueRoutinesCommand(o), serviceCommand(o))
	return c
}

// routineFlags are what a new routine is made of, as its text has it.
type routineFlags struct {
	machine, within, zone, spread   string
	shelves, do, when, tell, failed []string
	mains, plan                     bool
}

func newRoutineCommand(o *options) *cobra.Command {
	var f routineFlags
	c := &cobra.Command{
		Use: "new NAME [DISK...]", Short: "Make a routine, or change the one of that name", Args: cobra.MinimumNArgs(1),
		Long: "The disks are attached now, and known by their serial numbers from then on. --when is, for example,\n" +
			"\"every day at 18:30\", \"every monday, friday at 8:00\", \"every month on the last day at 6:00\",\n" +
			"\"every hour at :15\", \"when attached for 2 minutes\" or \"when older than 8 days\".\n" +
			"--do is capture, prove, check 5 %, thin or \"carry to SHELF\"; several are done in their order.",
		Example: exampleRoutine +
			"\n  twinshelf routine new \"Shelf, weekly\" --do \"check 5 %\" --when \"every sunday at 3:00\" --plan",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			r, err := f.routine(w, args[0], args[1:])
			if err != nil {
				return err
			}
			for _, d := range w.RoutineDoubts(cmd.Context(), r) {
				fmt.Fprintln(o.err, "note: as it is it would fail, since nobody is there to be asked: "+d)
			}
			return saveRoutine(o, w, r, f.plan)
		},
	}
	fs := c.Flags()
	fs.StringVar(&f.machine, "machine", "", "name of the machine that the disks are of")
	fs.StringArrayVar(&f.shelves, "onto", nil, "name or folder of a shelf (default: the one that is open); repeated, "+
		"the first that can be had is used")
	fs.StringArrayVar(&f.do, "do", nil, "what is done (default: capture); may be repeated")
	fs.StringArrayVar(&f.when, "when", nil, "when it is due; may be repeated")
	fs.StringVar(&f.within, "within", "", "hours in which it may begin: \"22:00 to 5:00\"")
	fs.StringVar(&f.zone, "zone", "", "time zone that its times are meant in (default: that of this machine)")
	fs.StringVar(&f.spread, "spread", "", "begin up to so much later: \"10 minutes\"")
	fs.StringArrayVar(&f.tell, "tell", nil, "tell what became of each run: \"command PROGRAM\", \"mail ADDRESS\" or "+
		"\"web https://ADDRESS\"; may be repeated")
	fs.StringArrayVar(&f.failed, "tell-on-failure", nil, "the same, only when a run didn't end well")
	fs.BoolVar(&f.mains, "only-on-mains", false, "not while the machine runs on battery")
	fs.BoolVar(&f.plan, "plan", false, "only show it, with the next times")
	return c
}

// routine makes the routine that the flags describe.
func (f *routineFlags) routine(w *workshop.Workshop, name string, disks []string) (*routine.Routine, error) {
	var lines []string
	put := func(key string, values ...string) {
		for _, v := range values {
			if v != "" {
				lines = append(lines, key+": "+strings.ReplaceAll(v, "\n", " "))
			}
		}
	}
	put("name", name)
	put("machine", f.machine)
	if len(disks) > 0 {
		found, err := listed(w, disks)
		if err != nil {
			return nil, err
		}
		for _, d := range found {
			if d.Identity.Serial == "" {
				return nil, usageError{fmt.Errorf("%s has no serial number, so a routine can't know it again", d.Path)}
			}
			put("disk", routine.Disk{Model: d.Identity.Model, Serial: d.Identity.Serial}.String())
		}
	}
	if len(f.shelves) == 0 && w.Shelf != nil {
		f.shelves = []string{w.Shelf.Head().Name}
	}
	if len(f.do) == 0 {
		f.do = []string{string(routine.Capture)}
	}
	put("shelf", f.shelves...)
	put("do", f.do...)
	put("when", f.when...)
	put("within", f.within)
	put("zone", f.zone)
	put("spread", f.spread)
	if f.mains {
		put("only on mains", "yes")
	}
	put("tell", f.tell...)
	put("tell on failure", f.failed...)
	r, err := routine.Parse(strings.NewReader(routine.Head + "\n" + strings.Join(lines, "\n")))
	if at := (*routine.LineError)(nil); errors.As(err, &at) {
		err = errors.New(at.Says)
	}
	if err != nil {
		return nil, usageError{err}
	}
	return r, nil
}

const nextShown = 5

// saveRoutine shows a routine with its next times, and keeps it.
func saveRoutine(o *options, w *workshop.Workshop, r *routine.Routine, plan bool) error {
	if !plan {
		if err := w.Routines().Save(r, time.Now()); err != nil {
			return err
		}
	}
	if o.json {
		return o.print(map[string]any{"routine": answer.RoutineOf(r, time.Now(), nextShown), "kept": !plan})
	}
	fmt.Fprint(o.out, r.Text())
	for _, t := range r.Ahead(time.Now(), nextShown) {
		o.say("# due %s", t.Format("Mon 2006-01-02 15:04 -07:00"))
	}
	if !plan {
		o.say("Kept. \"twinshelf routine watch\" runs it when it is due, \"twinshelf routine run\" now.")
	}
	return nil
}

// theRoutine opens the workshop and finds a routine.
func theRoutine(ctx context.Context, o *options, name string) (*workshop.Workshop, *routine.Routine, error) {
	w, err := o.workshop(ctx, false)
	if err != nil {
		return nil, nil, err
	}
	r, err := w.Routines().Find(name)
	if errors.Is(err, routine.ErrNone) {
		err = usageError{err}
	}
	return w, r, err
}

func listRoutinesCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the routines: how each went last, and when it is due", Args: cobra.NoArgs,
		Example: "  twinshelf routine list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			list, problems := w.RoutineStates(time.Now())
			t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
			out := []answer.RoutineState{}
			for _, s := range list {
				out = append(out, answer.RoutineStateOf(s, time.Now(), nextShown))
				fmt.Fprintf(t, "%s\t%s\t%s\n", s.Name, s.LastWords(), s.NextWords())
			}
			if o.json {
				return o.print(map[string]any{"routines": out, "problems": texts(problems)})
			}
			t.Flush()
			for _, p := range problems {
				fmt.Fprintln(o.err, "twinshelf: "+p.Error())
			}
			if len(list) == 0 && len(problems) == 0 {
				o.say("No routine was made yet: \"twinshelf routine new\" makes one.")
			}
			return nil
		},
	}
}

func showRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a routine: its text, when it is due next, and what became of it",
		Args: exactly("the routine"), Example: "  twinshelf routine show \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			s, err := w.RoutineState(r, time.Now())
			if err != nil {
				return err
			}
			if o.json {
				return o.print(answer.RoutineStateOf(s, time.Now(), nextShown))
			}
			fmt.Fprint(o.out, r.Text())
			o.say("%s; %s", s.LastWords(), s.NextWords())
			for _, t := range r.Ahead(time.Now(), nextShown) {
				o.say("  due %s", t.Format("Mon 2006-01-02 15:04 -07:00"))
			}
			for _, e := range slices.Backward(s.History) {
				o.say("  %s  %s  %s", units.Moment(e.Ended), e.Outcome, e.Says)
			}
			return nil
		},
	}
}

func runRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "run NAME", Short: "Run a routine now, whether it is due or not", Args: exactly("the routine"),
		Example: "  twinshelf routine run \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			e, err := w.RunRoutine(cmd.Context(), r, routine.Due{}, o.follow)
			if o.json && e.Outcome != "" {
				return errors.Join(err, o.print(e))
			}
			if err != nil {
				return afterCancel(err, "the routine counts as stopped, and the shelf is as it was")
			}
			o.say("%s: %s, %s.", r.Name, e.Outcome, e.Says)
			return nil
		},
	}
}

func pauseRoutineCommand(o *options) *cobra.Command {
	var until string
	c := &cobra.Command{
		Use: "pause NAME", Short: "Have a routine not run by itself, until a day or until it is resumed",
		Args:    exactly("the routine"),
		Example: "  twinshelf routine pause \"Ticket desk\" --until 2027-01-07",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			var end time.Time
			if until != "" {
				zone, err := r.Place()
				if err == nil {
					end, err = time.ParseInLocation("2006-01-02", until, zone)
				}
				if err != nil || !end.After(time.Now()) {
					return usageError{fmt.Errorf("--until %s: give a day that is to come, such as %s", until,
						time.Now().AddDate(0, 0, 7).Format("2006-01-02"))}
				}
			}
			err = w.Routines().SetPace(r.Name, func(p *routine.Pace) { p.Paused, p.Until = true, end })
			return paced(o, w, r, err, "is paused")
		},
	}
	c.Flags().StringVar(&until, "until", "", "the day from which on it runs again, such as 2027-01-07")
	return c
}

func resumeRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "resume NAME", Short: "Have a paused routine run again; what it missed isn't made up for",
		Args: exactly("the routine"), Example: "  twinshelf routine resume \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			err = w.Routines().SetPace(r.Name, func(p *routine.Pace) {
				p.Paused, p.Until, p.Resumed = false, time.Time{}, time.Now()
			})
			return paced(o, w, r, err, "runs again")
		},
	}
}

// paced says what became of a routine that was paused or resumed.
func paced(o *options, w *workshop.Workshop, r *routine.Routine, err error, how string) error {
	if err != nil {
		return err
	}
	s, err := w.RoutineState(r, time.Now())
	if err != nil {
		return err
	}
	if o.json {
		return o.print(answer.RoutineStateOf(s, time.Now(), nextShown))
	}
	o.say("%s %s; %s.", r.Name, how, s.NextWords())
	return nil
}

func removeRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a routine and its history; twins stay", Args: exactly("the routine"),
		Example: "  twinshelf routine remove \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			if err := w.Routines().Remove(r.Name); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"name": r.Name})
			}
			o.say("%s is removed.", r.Name)
			return nil
		},
	}
}

func importRoutineCommand(o *options) *cobra.Command {
	var plan bool
	c := &cobra.Command{
		Use: "import FILE", Short: "Take a routine from a text, or change the one of its name",
		Args:    exactly("the file"),
		Example: "  twinshelf routine import weekly.txt --plan",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			f, err := os.Open(args[0])
			if err != nil {
				return usageError{err}
			}
			defer f.Close()
			r, err := routine.Parse(f)
			if err != nil {
				return usageError{fmt.Errorf("%s: %w", args[0], err)}
			}
			return saveRoutine(o, w, r, plan)
		},
	}
	c.Flags().BoolVar(&plan, "plan", false, "only show it, with the next times")
	return c
}

func exportRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "export NAME", Short: "Write a routine as a text that \"routine import\" takes",
		Args:    exactly("the routine"),
		Example: "  twinshelf routine export \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			if o.json {
				return o.print(answer.RoutineOf(r, time.Now(), nextShown))
			}
			fmt.Fprint(o.out, r.Text())
			return nil
		},
	}
}

func watchRoutinesCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "watch", Short: "Run routines when they are due, until it is ended", Args: cobra.NoArgs,
		Long: "Looks every 15 seconds which routines are due, and runs them one after the other. What was\n" +
			"missed while it didn't run is made up for once.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			return w.WatchRoutines(cmd.Context(), o.follow, told(o))
		},
	}
}

func told(o *options) workshop.Told {
	return func(name, what string) {
		o.say("%s  %s: %s", time.Now().Format("2006-01-02 15:04:05"), name, what)
	}
}

func dueRoutinesCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "due", Short: "Run the routines that are due now, and end", Args: cobra.NoArgs,
		Long: "What \"routine watch\" does every 15 seconds, once: for systemd (\"routine service\") or another\n" +
			"program that starts it every minute. Disks count as attached since they were seen first.",
		Example: "  twinshelf routine due",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			said := []string{}
			failed, err := w.RunDue(cmd.Context(), o.follow, func(name, what string) {
				if said = append(said, name+": "+what); !o.json {
					told(o)(name, what)
				}
			})
			if o.json && err == nil {
				err = o.print(map[string]any{"said": said, "failed": failed})
			}
			if err == nil && failed > 0 {
				err = fmt.Errorf("%s failed; \"twinshelf routine show NAME\" says why", units.Plural(failed, "routine"))
			}
			return err
		},
	}
}

func serviceCommand(o *options) *cobra.Command {
	var install, remove bool
	c := &cobra.Command{
		Use: "service", Short: "Show, install or remove what has systemd run routines", Args: cobra.NoArgs,
		Long: "Without flags it shows the files: a service, a timer that starts it every minute and, as root, a\n" +
			"rule that starts it when a disk is attached. They are for the machine as root, otherwise for the\n" +
			"person. All times stay in the routines: one that is made later needs nothing else. A file that was\n" +
			"edited by hand is neither overwritten nor removed.",
		Example: "  twinshelf routine service",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			s, err := w.Service()
			if err != nil {
				return err
			}
			did := ""
			switch {
			case install:
				did, err = "installed", s.Install(cmd.Context())
			case remove:
				did, err = "removed", s.Remove(cmd.Context())
			}
			if errors.As(err, new(*workshop.Edited)) {
				err = refusal{err}
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"unit_files": answer.UnitFilesOf(s.Units), "in_place": s.Installed()})
			}
			for _, u := range s.Units {
				if did != "" {
					o.say("%s is %s.", u.Path, did)
					continue
				}
				o.say("# %s", u.Path)
				fmt.Fprintln(o.out, u.Text)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&install, "install", false, "write the files and switch the timer on")
	c.Flags().BoolVar(&remove, "remove", false, "switch the timer off and remove the files")
	c.MarkFlagsMutuallyExclusive("install", "remove")
	return c
}
