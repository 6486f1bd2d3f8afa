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
		exportRoutineCommand(o), watchRoutinesCommand(o), dueRoutinesCommand(o), serviceCommand(o),
		stopRoutineCommand(o), confirmRoutineCommand(o), routinePassphraseCommand(o), mailCommand(o),
		foreseeRoutineCommand(o))
	return c
}

// routineFlags are what a new routine is made of, as its text has it.
type routineFlags struct {
	machine, within, zone, spread, pack, keep, heartbeat, alarm           string
	shelves, do, when, tell, failed, weekly, spares, failing, passphrases []string
	confirm                                                               []string
	mains, idle, plan, snapshots                                          bool
}

func newRoutineCommand(o *options) *cobra.Command {
	var f routineFlags
	c := &cobra.Command{
		Use: "new NAME [DISK...]", Short: "Make a routine, or change the one of that name", Args: cobra.MinimumNArgs(1),
		Long: "The disks are attached now, and known by their serial numbers from then on. --when is, for example,\n" +
			"\"every day at 18:30\", \"every monday, friday at 8:00\", \"every month on the last day at 6:00\",\n" +
			"\"every hour at :15\", \"when attached for 2 minutes\" or \"when older than 8 days\".\n" +
			"--do is capture, prove, check 5 %, thin, \"carry to SHELF\", copy (each disk onto its --spare) or " +
			"\"sheet to\nFOLDER\"; several are done in their order. A spare is erased at each run: that is confirmed " +
			"once, by its\n" +
			"whole serial number, when the routine is made or changed.",
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
			return saveRoutine(cmd.Context(), o, w, r, f.plan, f.confirm)
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
	fs.StringArrayVar(&f.weekly, "tell-weekly", nil, "the same, once a week, of all runs")
	fs.StringVar(&f.heartbeat, "heartbeat", "", "HTTPS address that is asked for after each run that ended well")
	fs.StringVar(&f.alarm, "alarm", "", "tell when nothing ended well for so long: \"nothing for 8 days\"")
	fs.StringArrayVar(&f.spares, "spare", nil, "disk that copy writes onto, and erases; one for each disk")
	fs.StringVar(&f.pack, "pack", "", "how closely captures are packed: follow (as there is time for; the default), "+
		"close, usual, swift")
	fs.StringVar(&f.keep, "keep", "", "rule that thin goes by: hourly, daily, weekly, or in words (default: that of "+
		"the shelf)")
	fs.StringArrayVar(&f.failing, "on-failure", nil, "\"try again 2 times after 10 minutes\" or \"go on\" with the "+
		"next step; may be repeated")
	fs.StringArrayVar(&f.passphrases, "passphrase", nil, "where the passphrase of a sealed shelf is: \"file PATH\", "+
		"\"credential NAME\" or kept; may be repeated")
	confirmFlag(c, &f.confirm)
	fs.BoolVar(&f.snapshots, "snapshots", false, "capture a disk that this machine runs from through snapshots of LVM")
	fs.BoolVar(&f.idle, "only-when-idle", false, "not while other work on disks is on")
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
	sources, err := known(w, disks)
	if err != nil {
		return nil, err
	}
	spares, err := known(w, f.spares)
	if err != nil {
		return nil, err
	}
	put("disk", sources...)
	if f.snapshots {
		put("mounted disks", "LVM snapshots")
	}
	put("spare", spares...)
	if len(f.do) == 0 {
		f.do = []string{string(routine.Capture)}
	}
	needs := slices.ContainsFunc(f.do, func(do string) bool {
		action, _, _ := strings.Cut(do, " ")
		return routine.Step{Action: routine.Action(action)}.OnShelf()
	})
	if len(f.shelves) == 0 && w.Shelf != nil && needs {
		f.shelves = []string{w.Shelf.Head().Name}
	}
	put("shelf", f.shelves...)
	put("passphrase", f.passphrases...)
	put("do", f.do...)
	put("pack", f.pack)
	put("keep", f.keep)
	put("on failure", f.failing...)
	put("when", f.when...)
	put("within", f.within)
	put("zone", f.zone)
	put("spread", f.spread)
	if f.mains {
		put("only on mains", "yes")
	}
	if f.idle {
		put("only when idle", "yes")
	}
	put("tell", f.tell...)
	put("tell on failure", f.failed...)
	put("tell weekly", f.weekly...)
	put("heartbeat", f.heartbeat)
	put("alarm", f.alarm)
	r, err := routine.Parse(strings.NewReader(routine.Head + "\n" + strings.Join(lines, "\n")))
	if at := (*routine.LineError)(nil); errors.As(err, &at) {
		err = errors.New(at.Says)
	}
	if err != nil {
		return nil, usageError{err}
	}
	return r, nil
}

// known are attached disks as a routine's text has them.
func known(w *workshop.Workshop, names []string) (out []string, err error) {
	if len(names) == 0 {
		return nil, nil
	}
	found, err := listed(w, names)
	if err != nil {
		return nil, err
	}
	for _, d := range found {
		if d.Identity.Serial == "" {
			return nil, usageError{fmt.Errorf("%s has no serial number, so a routine can't know it again", d.Path)}
		}
		out = append(out, routine.DiskOf(d.Identity).String())
	}
	return out, nil
}

const nextShown = 5

func confirmFlag(c *cobra.Command, confirm *[]string) {
	c.Flags().StringArrayVar(confirm, "confirm", nil, "the whole serial number of a spare, which is otherwise asked "+
		"for; once for each")
}

// saveRoutine shows a routine with its next times, and keeps it. What it erases is confirmed before.
func saveRoutine(ctx context.Context, o *options, w *workshop.Workshop, r *routine.Routine, plan bool,
	confirm []string) error {
	if !o.json {
		fmt.Fprint(o.out, r.Text())
		for _, t := range r.Ahead(time.Now(), nextShown) {
			o.say("# due %s", t.Format("Mon 2006-01-02 15:04 -07:00"))
		}
		foreseen(ctx, o, w, r)
	}
	if !plan {
		sure, err := w.RoutineConfirmed(r)
		if err == nil && !sure {
			err = confirmRoutine(o, r, confirm)
		}
		if err == nil {
			err = w.Routines().Save(r, time.Now())
		}
		if err == nil && r.Erases() {
			err = w.ConfirmRoutine(r)
		}
		if err != nil {
			return err
		}
	}
	if o.json {
		return o.print(map[string]any{"routine": answer.RoutineOf(r, time.Now(), nextShown), "routine_saved": !plan})
	}
	if !plan {
		o.say("Kept. \"twinshelf routine watch\" runs it when it is due, \"twinshelf routine run\" now.")
	}
	return nil
}

// confirmRoutine shows what a routine erases, and asks for each spare.
func confirmRoutine(o *options, r *routine.Routine, given []string) error {
	for i, s := range workshop.SummarizeRoutine(r) {
		if !o.json {
			o.showSummary(s)
		}
		typed := ""
		if i < len(given) {
			typed = given[i]
		}
		if err := o.confirm(s, "", typed); err != nil {
			return err
		}
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
				if s.Live != nil {
					fmt.Fprintf(t, "\t%s\t\n", s.Live.Words())
				}
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
	var logs bool
	c := &cobra.Command{
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
			if s.Live != nil {
				o.say("  %s", s.Live.Words())
			}
			for _, t := range r.Ahead(time.Now(), nextShown) {
				o.say("  due %s", t.Format("Mon 2006-01-02 15:04 -07:00"))
			}
			for _, e := range slices.Backward(s.History) {
				o.say("  %s  %s  %s", units.Moment(e.Ended), e.Outcome, e.Says)
				for _, l := range e.Log {
					if logs {
						o.say("    %s", l)
					}
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&logs, "logs", false, "show what each run noted")
	return c
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

func importRoutineCommand(o *options) *cobra.Command {
	var plan bool
	var confirm []string
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
			return saveRoutine(cmd.Context(), o, w, r, plan, confirm)
		},
	}
	c.Flags().BoolVar(&plan, "plan", false, "only show it, with the next times")
	confirmFlag(c, &confirm)
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
