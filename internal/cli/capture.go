package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// captureFlags say what is captured, and how.
type captureFlags struct {
	machine, note                    string
	without, asCut                   []string
	plan, unquiet, everything, whole bool
	readAll, trustNTFS, keys         bool
	pack                             string
	yes                              map[capture.DoubtKind]*bool
}

func (f *captureFlags) flags(c *cobra.Command) {
	fs := c.Flags()
	f.yes = map[capture.DoubtKind]*bool{
		capture.FewerDisks: fs.Bool("yes-"+string(capture.FewerDisks), false,
			"capture although the machine has more disks than these"),
		capture.OtherMachine: fs.Bool("yes-"+string(capture.OtherMachine), false,
			"capture a disk that was captured as another machine's"),
		capture.NewMachine: fs.Bool("yes-"+string(capture.NewMachine), false,
			"capture as a new machine although one has nearly the same name"),
	}
	fs.StringVar(&f.machine, "machine", "", "name of the machine (default: the one these disks were captured as "+
		"before)")
	fs.StringVar(&f.note, "note", "", "a note that the twin carries")
	fs.StringArrayVar(&f.without, "without", nil, "leave a part out: its number, or DISK:NUMBER with several disks; "+
		"may be repeated")
	fs.StringArrayVar(&f.asCut, "as-if-cut", nil, "capture a part that sleeps or was cut off as if the power had been "+
		"cut: its number, DISK:NUMBER with several disks, or all; may be repeated")
	fs.BoolVar(&f.plan, "plan", false, "only show what would be done")
	fs.BoolVar(&f.unquiet, "not-quiet", false, "capture although a part is in use or wasn't shut down cleanly; the "+
		"twin says so for ever")
	fs.BoolVar(&f.readAll, "read-all", false, "read everything, also files whose records prove that they are what "+
		"they were in the twin before")
	fs.BoolVar(&f.trustNTFS, "trust-ntfs", false, "let the file records and the change journal of NTFS, and the "+
		"records of HFS+, prove too that files are unchanged; their systems write some without touching them")
	c.MarkFlagsMutuallyExclusive("read-all", "trust-ntfs")
	fs.BoolVar(&f.whole, "whole", false, "keep every byte that isn't zero, whatever the file systems call free: "+
		"deleted things may still be in it")
	c.MarkFlagsMutuallyExclusive("whole", "as-if-cut")
	fs.BoolVar(&f.keys, "keep-unlocking", false, "keep the keys of unlocked volumes with the twin, so that looking "+
		"inside needs none; only a sealed shelf does")
	fs.StringVar(&f.pack, "pack", "follow", "how closely it is packed: follow (as there is time for), close, usual, "+
		"swift")
	fs.BoolVar(&f.everything, "everything", false, "keep swapped-out memory and spent hibernation images too")
}

func captureCommand(o *options) *cobra.Command {
	var f captureFlags
	c := &cobra.Command{
		Use:   "capture DISK...",
		Short: "Capture the disks of one machine as a twin on the shelf",
		Long: "Captures whole disks: table, start-up areas and every used block of every part.\n" +
			"Name all disks of the machine. DISK is a path, a serial number, or its last four or more characters.",
		Example: "  twinshelf capture --shelf /media/oak --machine \"Ticket desk\" /dev/sdb\n" +
			"  twinshelf capture --machine \"Purser's laptop\" 0A64 D98F --plan\n" +
			"  twinshelf capture --machine \"Crew office\" office.img --without 3\n" +
			"  twinshelf capture --machine \"Chart table\" CB38 --as-if-cut 1",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			disks, err := o.probed(cmd.Context(), w, args...)
			if err != nil {
				return err
			}
			p, err := f.planCapture(cmd.Context(), w, disks)
			if err != nil {
				return err
			}
			return o.runCapture(cmd, w, p, &f)
		},
	}
	f.flags(c)
	return c
}

// planCapture plans the capture that the flags ask for.
func (f *captureFlags) planCapture(ctx context.Context, w *workshop.Workshop,
	disks []*bench.Disk) (*capture.Plan, error) {
	machine := f.machine
	if machine == "" {
		twins, problems := w.Shelf.Twins(ctx)
		if machine = workshop.SuggestMachine(twins, disks); machine == "" && len(problems) > 0 {
			return nil, usageError{fmt.Errorf("give the machine a name with --machine: whether these disks have "+
				"been captured before can't be told: %w", problems[0])}
		}
		if machine == "" {
			return nil, usageError{fmt.Errorf("give the machine a name with --machine: none of these disks has been " +
				"captured before")}
		}
	}
	leave, err := partsNamed(disks, "--without", f.without)
	if err != nil {
		return nil, err
	}
	asCut, err := f.halted(disks)
	if err != nil {
		return nil, err
	}
	for _, d := range disks {
		if err := f.widen(ctx, d); err != nil {
			return nil, err
		}
	}
	p, err := w.PlanCapture(ctx, machine, disks, leave, asCut)
	if err != nil {
		return nil, err
	}
	p.Note, p.KeepUnlocking = f.note, f.keys
	if p.Packing, err = capture.ParsePacking(f.pack); err != nil {
		return nil, usageError{err}
	}
	switch {
	case f.readAll:
		p.Trust = capture.TrustNone
	case f.trustNTFS:
		p.Trust = capture.TrustMost
	}
	return p, nil
}

// widen has more of a disk kept than what is in use.
func (f *captureFlags) widen(ctx context.Context, d *bench.Disk) error {
	for i := range d.Survey.Areas {
		if !f.everything {
			break
		}
		if err := d.Survey.Areas[i].Content.KeepAll(ctx); err != nil {
			return err
		}
	}
	if f.whole {
		d.Survey.TakeWhole("it was wanted: deleted things may still be in it")
	}
	return nil
}

// halted are the parts that shall be captured as if the power had been cut.
func (f *captureFlags) halted(disks []*bench.Disk) (workshop.Parts, error) {
	if len(f.asCut) != 1 || f.asCut[0] != "all" {
		return partsNamed(disks, "--as-if-cut", f.asCut)
	}
	out := workshop.Parts{}
	found := false
	for _, d := range disks {
		out[d] = map[int]bool{}
		for n := range d.Survey.Halted() {
			out[d][n], found = true, true
		}
	}
	if !found {
		return nil, usageError{errors.New("--as-if-cut all: nothing here sleeps or was cut off; what is locked tells " +
			"nothing of that, so unlock it first")}
	}
	return out, nil
}

// partsNamed are the parts that a flag names.
func partsNamed(disks []*bench.Disk, flag string, named []string) (workshop.Parts, error) {
	out := workshop.Parts{}
	for _, s := range named {
		d := disks[0]
		number := s
		if i := strings.LastIndexByte(s, ':'); i >= 0 {
			var err error
			if d, err = bench.Find(disks, s[:i]); err != nil {
				return nil, usageError{err}
			}
			number = s[i+1:]
		} else if len(disks) > 1 {
			return nil, usageError{fmt.Errorf("%s %s: say of which disk, as DISK:NUMBER", flag, s)}
		}
		n, err := strconv.Atoi(number)
		known := d.Survey == nil // nobody has looked at it
		if !known {
			known = slices.ContainsFunc(d.Survey.Parts(), func(a survey.Area) bool { return a.Part.Number == n })
		}
		if err != nil || !known {
			return nil, usageError{fmt.Errorf("%s %s: %s has no part %s", flag, s, d.Path, number)}
		}
		if out[d] == nil {
			out[d] = map[int]bool{}
		}
		out[d][n] = true
	}
	return out, nil
}

func (o *options) runCapture(cmd *cobra.Command, w *workshop.Workshop, p *capture.Plan, f *captureFlags) error {
	e, err := estimated(cmd.Context(), o, p)
	if err != nil {
		return err
	}
	leaving, err := w.Outgoing(cmd.Context(), p.Machine)
	if err != nil {
		return err
	}
	planned := map[string]any{"machine": p.Machine, "disks": p.List(), "estimate": e, "words": e.Words(),
		"warnings": p.Warnings(), "doubts": p.Doubts(cmd.Context()), "read_whole": p.Wholes(),
		"taken_over": p.Trusts(cmd.Context()), "leaving": leaving, "drive_warnings": p.Health()}
	u := undertaking{plan: f.plan, planned: planned}
	if f.plan {
		u.show = func() {
			o.showCapturePlan(cmd.Context(), p, e, leaving)
			if words := w.FarFacts(p.Shelf).Warns(e.Likely); words != "" {
				o.say("  %s", words)
			}
		}
		return o.undertake(u)
	}
	if warnings := p.Warnings(); len(warnings) > 0 && !f.unquiet {
		return refusal{fmt.Errorf("nothing was captured: %s; shut the machine down cleanly first, or say "+
			"--not-quiet to capture it as it is%s", strings.Join(warnings, "; "), orAsCut(p))}
	}
	for _, d := range p.Doubts(cmd.Context()) {
		u.doubts = append(u.doubts, doubt{d.Says, "--yes-" + string(d.Kind), *f.yes[d.Kind]})
	}
	u.work = func() error { return o.capture(cmd.Context(), w, p, leaving) }
	return o.undertake(u)
}

// orAsCut names the other way to capture parts that their system didn't shut down; empty where there is none.
func orAsCut(p *capture.Plan) string {
	for _, s := range p.Sources {
		if len(s.Survey.Halted()) > 0 {
			return ", or --as-if-cut PART to capture a part as if the power had been cut (--plan says what follows)"
		}
	}
	return ""
}

func (o *options) showCapturePlan(ctx context.Context, p *capture.Plan, e capture.Estimate,
	leaving *workshop.Outgoing) {
	o.say("%s: %s to read, about %s, probably %s new on the shelf; %s.", p.Machine, units.Bytes(e.Read),
		units.Duration(e.Time), units.Bytes(e.Likely), e.Words())
	for _, l := range p.List() {
		for _, line := range l.Lines() {
			o.say("  %s", line)
		}
	}
	for _, d := range p.Doubts(ctx) {
		o.say("  doubtful: %s", d.Says)
	}
	for _, s := range slices.Concat(p.Health(), p.Warnings(), p.Trusts(ctx), leaving.Words()) {
		o.say("  %s", s)
	}
}

// capture captures, and says what it came to.
func (o *options) capture(ctx context.Context, w *workshop.Workshop, p *capture.Plan,
	leaving *workshop.Outgoing) error {
	// Beside the result, also where that is JSON.
	for _, s := range slices.Concat(p.Health(), p.Wholes(), leaving.Words()) {
		if !o.quiet {
			fmt.Fprintln(o.err, "note: "+s)
		}
	}
	r, result := w.StartCapture(ctx, p, leaving)
	if err := afterCancel(o.follow(r), "no twin was made, and the shelf is as it was"); err != nil {
		return err
	}
	t := result()
	var err error
	if o.json {
		err = o.print(t)
	} else {
		o.say("Twin %s of %s: %s in use, %s new on the shelf.", t.ID, t.Machine, units.Bytes(t.Used),
			units.Bytes(t.Added))
	}
	if n := t.Missing(); n > 0 {
		return doubtful{fmt.Errorf("%s of the source could not be read; the twin is kept and says so; \"twinshelf "+
			"rescue\" may get more of it", units.Bytes(n))}
	}
	return err
}

// agree asks for a yes to something that may be a mistake; a script says so by a flag.
func (o *options) agree(says, flag string) error {
	fmt.Fprintf(o.err, "%s. Type yes to go on all the same: ", says)
	line, err := o.in.ReadString('\n')
	if strings.EqualFold(strings.TrimSpace(line), "yes") {
		return nil
	}
	if err != nil && line == "" {
		fmt.Fprintln(o.err)
		return refusal{fmt.Errorf("nothing was done: there was nobody to say yes; %s says it", flag)}
	}
	return refusal{errors.New("nothing was done")}
}

func findTwin(ctx context.Context, s *shelf.Shelf, ref string) (*shelf.Twin, error) {
	t, err := s.Find(ctx, ref)
	if err != nil {
		return nil, usageError{err}
	}
	return t, nil
}

// estimated samples what a capture would read, and estimates what it needs.
func estimated(ctx context.Context, o *options, p *capture.Plan) (capture.Estimate, error) {
	doing, over := hearing(o)
	defer over()
	doing("packing samples of what is used")
	if err := p.Sample(ctx); err != nil {
		return capture.Estimate{}, err
	}
	doing("looking which blocks the shelf has")
	return p.Estimate(ctx)
}
