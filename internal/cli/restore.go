package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/prove"
	"twinshelf/internal/scene"
	"twinshelf/internal/shelf"
	"twinshelf/internal/sizes"
	"twinshelf/internal/startup"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// writeFlags are what restoring and copying have in common.
type writeFlags struct {
	fitFlags
	confirm []string
	plan    bool
	draw    string
	// yesRegistry says yes to a Windows whose registry names other identities.
	yesRegistry bool
	// yesFewer says yes to a machine of which a disk gets no target.
	yesFewer bool
	// freshTargets are the targets that get identities of their own, where not all do.
	freshTargets []string
	// yesOpen says that the customer agreed to have volumes written without their encryption.
	yesOpen bool
}

func (f *writeFlags) flags(c *cobra.Command) {
	f.fitFlags.flags(c)
	c.Flags().StringArrayVar(&f.confirm, "confirm", nil, "the confirmation that is otherwise asked for; once for "+
		"each target")
	c.Flags().BoolVar(&f.plan, "plan", false, "only show what would be done")
	c.Flags().StringVar(&f.draw, "draw", "", "FILE.svg or FILE.pdf: draw the plan, before and after")
	c.Flags().BoolVar(&f.yesOpen, "yes-unencrypted", false, "with --unlocked: the customer agreed to it")
	c.Flags().BoolVar(&f.yesRegistry, "yes-registry", false, "with --fresh-identity: go on although a Windows knows "+
		"its drives by the old identities")
}

func restoreCommand(o *options) *cobra.Command {
	var from int
	var f writeFlags
	c := &cobra.Command{
		Use:   "restore TWIN TARGET [TARGET...]",
		Short: "Write a twin onto targets, read them back and prove it",
		Long: "Erases the targets. A machine with several disks gets a target for each, in the twin's order; - " +
			"leaves a disk out.\n" +
			"Several targets of one disk are written at the same time; what they need is read from the shelf once.\n" +
			"On a larger target the main data part takes the extra space, and the parts after it\n" +
			"move to the end; --keep, --grow, --size and --without change that (with several disks, as DISK/PART).\n" +
			"Before anything is written each target's last four serial characters (its size, when it\n" +
			"has no serial number) must be typed, or given with --confirm. If it is cut off, start it again and it " +
			"carries on.",
		Example: "  twinshelf restore \"Ticket desk\" /dev/sdc\n" +
			"  twinshelf restore 20261030 7731 --plan\n" +
			"  twinshelf restore 20261030 7731 --grow 3:2 --grow 4     part 3 gets twice as much of the extra " +
			"space as " +
			"part 4\n" +
			"  twinshelf restore 20261030 7731 --size 3=400GB --without 4\n" +
			"  twinshelf restore \"Purser's laptop\" /dev/sdc /dev/sdd --grow 1/2\n" +
			"  twinshelf restore \"Ticket desk\" /dev/sdc /dev/sdd --fresh-on /dev/sdd     two of the same\n" +
			"  twinshelf restore 20261030 7731 --gap-text \"lost: not read from the old drive\" --gap-list\n" +
			"  twinshelf restore \"Purser's laptop\" new.img --from-disk 2 --yes-fewer-disks --confirm \"500 GB\"",
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			t, err := findTwin(cmd.Context(), w.Shelf, args[0])
			if err == nil {
				err = o.keys.twin(cmd.Context(), o, w, t)
			}
			if err != nil {
				return err
			}
			if err := o.checkTargets(cmd, w, t, from, args[1:]); err != nil {
				return err
			}
			pairs, err := o.planPairs(cmd.Context(), w, t, from, args[1:], &f)
			if err != nil {
				return err
			}
			return o.writePairs(cmd, w, pairs, &f)
		},
	}
	f.flags(c)
	c.Flags().BoolVar(&f.yesFewer, "yes-fewer-disks", false, "restore although a disk of the machine gets no target")
	c.Flags().IntVar(&from, "from-disk", 0, "only this disk of the twin, from 1")
	c.Flags().StringArrayVar(&f.freshTargets, "fresh-on", nil, "--fresh-identity for this target only, by its path or "+
		"the end of its serial number; may be given several times")
	return c
}

// checkTargets refuses targets that don't fit the twin's disks in number. from is the only disk that is wanted, from 1;
// 0 wants all.
func (o *options) checkTargets(cmd *cobra.Command, w *workshop.Workshop, t *shelf.Twin, from int,
	names []string) error {
	switch n := len(t.Disks); {
	case from > n || from < 0:
		return usageError{fmt.Errorf("--from-disk %d: this twin has %s", from, units.Plural(n, "disk"))}
	case (from > 0 || n == 1) && slices.Contains(names, "-"):
		return usageError{fmt.Errorf("- leaves a disk of several out: here each target gets the same disk")}
	case from == 0 && n > 1 && n != len(names):
		return usageError{fmt.Errorf("this twin has %s and %s named: name one for each in its order (- leaves a "+
			"disk out), or choose one disk with --from-disk.%s", units.Plural(n, "disk"), wereNamed(len(names)),
			o.proposal(cmd, w, t, names))}
	}
	return nil
}

// planPairs plans a restore onto each target.
func (o *options) planPairs(ctx context.Context, w *workshop.Workshop, t *shelf.Twin, from int, names []string,
	f *writeFlags) ([]*workshop.Pair, error) {
	doing, over := hearing(o)
	defer over()
	targets, err := namedTargets(ctx, o, w, names)
	if err != nil {
		return nil, err
	}
	fresh, err := f.freshOnes(targets)
	if err != nil {
		return nil, err
	}
	var pairs []*workshop.Pair
	for i, target := range targets {
		if target == nil {
			continue
		}
		n := len(names)
		if from > 0 || len(t.Disks) == 1 { // each gets the same disk
			i, n = max(0, from-1), 1
		}
		wish, err := f.wish(i, n, target.Identity.Size)
		if err != nil {
			return nil, err
		}
		wish.Fresh = wish.Fresh || fresh[target]
		p, err := w.PlanBeside(ctx, pairs, workshop.Origin{Twin: t, Disk: i}, target, wish, doing)
		if err != nil {
			return nil, err
		}
		pairs = append(pairs, p)
	}
	return w.Together(ctx, pairs)
}

// namedTargets are the disks of that name, probed; nil for - .
func namedTargets(ctx context.Context, o *options, w *workshop.Workshop, names []string) ([]*bench.Disk, error) {
	out := make([]*bench.Disk, len(names))
	for i, name := range names {
		if name == "-" {
			continue
		}
		found, err := o.probed(ctx, w, name)
		if err != nil {
			return nil, err
		}
		out[i] = found[0]
	}
	return out, nil
}

// freshOnes are the targets that --fresh-on names.
func (f *writeFlags) freshOnes(targets []*bench.Disk) (map[*bench.Disk]bool, error) {
	targets = slices.DeleteFunc(slices.Clone(targets), func(d *bench.Disk) bool { return d == nil })
	out := map[*bench.Disk]bool{}
	for _, name := range f.freshTargets {
		d, err := bench.Find(targets, name)
		if err != nil {
			return nil, usageError{fmt.Errorf("--fresh-on %s is none of the targets: %w", name, err)}
		}
		out[d] = true
	}
	return out, nil
}

func wereNamed(n int) string {
	if n == 1 {
		return "1 target was"
	}
	return fmt.Sprintf("%d targets were", n)
}

// proposal says which targets on the bench would do.
func (o *options) proposal(cmd *cobra.Command, w *workshop.Workshop, t *shelf.Twin, names []string) string {
	_, _ = o.probed(cmd.Context(), w, names...) // those count too
	disks := w.Bench.List()
	for _, d := range disks {
		w.Bench.Probe(cmd.Context(), d)
	}
	text := ""
	for i, d := range bench.Propose(t, disks) {
		if d != nil {
			text += fmt.Sprintf(" Disk %d (%s) would go onto %s at %s.", i+1, units.Bytes(t.Disks[i].Identity.Size),
				disk.Sticker(d.Identity), d.Path)
		} else {
			text += fmt.Sprintf(" For disk %d (%s) nothing on the bench is large enough.", i+1,
				units.Bytes(t.Disks[i].Identity.Size))
		}
	}
	return text
}

// What a cancelled restore leaves.
const (
	leftTarget = "a target that wasn't written to its end has no table and starts nothing; started again, the work " +
		"goes on from the last flush. A target that was only being read back is complete"
	leftImage = "the image file is incomplete: delete it, or start again"
)

// writePairs shows what would be done, asks, writes and proves.
func (o *options) writePairs(cmd *cobra.Command, w *workshop.Workshop, pairs []*workshop.Pair, f *writeFlags) error {
	if len(pairs) == 0 {
		return usageError{fmt.Errorf("every disk is left out: there is nothing to write")}
	}
	seen := map[string]bool{}
	for _, p := range pairs {
		if seen[p.Target.Path] {
			return usageError{fmt.Errorf("%s is named twice: each disk needs a target of its own", p.Target.Path)}
		}
		if seen[p.Target.Path] = true; f.anew {
			p.Plan.Anew()
		}
	}
	if err := w.CheckPairs(pairs); err != nil {
		return err
	}
	u := undertaking{summaries: workshop.SummarizeRestore(pairs), plan: f.plan, confirm: f.confirm}
	u.drawTo, u.drawn = f.draw, func() *scene.Scene { return workshop.DrawPairs(pairs) }
	u.planned = map[string]any{"targets": plannedTargets(pairs, u.summaries)}
	for _, p := range pairs {
		u.targets = append(u.targets, p.Target.Path)
	}
	if workshop.OneSource(pairs) {
		all := workshop.SummarizeMany(pairs)
		u.together = &all
	}
	for _, m := range workshop.MissingDisks(pairs) {
		u.doubts = append(u.doubts, doubt{capital(m), "--yes-fewer-disks", f.yesFewer})
	}
	u.more = func(i int) (more []doubt) {
		for _, c := range pairs[i].Consents() {
			more = append(more, doubt{capital(c) + ". The customer must have agreed to it", "--yes-unencrypted",
				f.yesOpen})
		}
		if fresh := pairs[i].Plan.Fresh; fresh != nil {
			for _, asks := range fresh.Asks {
				more = append(more, doubt{capital(asks), "--yes-registry", f.yesRegistry})
			}
		}
		return more
	}
	u.work = func() error {
		r, proof := w.StartRestore(cmd.Context(), pairs)
		err := afterCancel(o.follow(r), leftTarget)
		var some *workshop.TargetsFailed
		if errors.As(err, &some) && proof() != nil { // the others are proven
			return errors.Join(o.showProof(proof()), err)
		}
		if err != nil {
			return err
		}
		return o.showProof(proof())
	}
	return o.undertake(u)
}

// capital gives a sentence its capital letter.
func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// plannedTarget is what --plan says of one target.
type plannedTarget struct {
	Summary workshop.Summary    `json:"summary"`
	Parts   []answer.FittedPart `json:"parts"`
	// Room is by how many bytes the target is larger than needed; Smallest and SmallestShrunk are the smallest disks
	// that will do.
	Room           int64           `json:"room"`
	Smallest       int64           `json:"smallest"`
	SmallestShrunk int64           `json:"smallest_shrunk"`
	Takes          time.Duration   `json:"seconds"`
	Startup        *startup.Report `json:"startup"`
	Repaired       []string        `json:"repaired"`
}

func plannedTargets(pairs []*workshop.Pair, summaries []workshop.Summary) (out []plannedTarget) {
	for i, s := range summaries {
		p := pairs[i].Plan
		out = append(out, plannedTarget{s, answer.FittedParts(p.Layout), p.Layout.Room, p.Layout.Least,
			p.Layout.Smallest, p.Estimate(), p.Startup, p.Repaired})
	}
	return out
}

func rehearseCommand(o *options) *cobra.Command {
	var from int
	var size string
	var f fitFlags
	c := &cobra.Command{
		Use:   "rehearse TWIN FILE",
		Short: "Write a twin's disk, as it would be on some target, into a new image file, and prove it",
		Long: "Makes FILE, which must not be there yet, as a sparse raw image: it can be looked at on the bench, " +
			"mounted, or\n" +
			"started in an emulator before any disk is written.",
		Example: "  twinshelf rehearse \"Ticket desk\" try.img --disk-size 1TB\n" +
			"  twinshelf rehearse 20261030 try.img --disk-size 128GB --size 3=least",
		Args: exactly("the twin", "the file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			t, err := findTwin(cmd.Context(), w.Shelf, args[0])
			if err == nil {
				err = o.keys.twin(cmd.Context(), o, w, t)
			}
			if err != nil {
				return err
			}
			if from < 1 || from > len(t.Disks) {
				return usageError{fmt.Errorf("--from-disk %d: this twin has %s", from,
					units.Plural(len(t.Disks), "disk"))}
			}
			n := t.Disks[from-1].Identity.Size
			if size != "" {
				s, err := sizes.Parse(size, sizes.Room{Disk: n, Rest: n})
				if err != nil {
					return usageError{fmt.Errorf("--disk-size %s: %w", size, err)}
				}
				n = s.Bytes / 4096 * 4096
			}
			wish, err := f.wish(0, 1, n)
			if err != nil {
				return err
			}
			doing, over := hearing(o)
			p, err := w.PlanExport(cmd.Context(), workshop.Origin{Twin: t, Disk: from - 1}, args[1], n, wish, doing)
			over()
			if err != nil {
				return err
			}
			r, proof := w.StartRestore(cmd.Context(), []*workshop.Pair{p})
			if err := afterCancel(o.follow(r), leftImage); err != nil {
				return err
			}
			return o.showProof(proof())
		},
	}
	f.flags(c)
	c.Flags().IntVar(&from, "from-disk", 1, "which disk of the twin, from 1")
	c.Flags().StringVar(&size, "disk-size", "", "size of the disk that is rehearsed (default: that of the twin's disk)")
	return c
}

func copyCommand(o *options) *cobra.Command {
	var f writeFlags
	c := &cobra.Command{
		Use:   "copy SOURCE TARGET",
		Short: "Write an attached disk onto another one, read it back and prove it",
		Long: "Like restore, from a disk that is attached instead of a twin: only what is used is read. Places that " +
			"can't be\n" +
			"read become zeros and are named at the end. Don't leave both disks in one machine: they have the same " +
			"identity.",
		Example: "  twinshelf copy 40B1 7731 --plan\n" +
			"  twinshelf copy /dev/sdb /dev/sdc --grow 3",
		Args: exactly("the source", "the target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			disks, err := o.probed(cmd.Context(), w, args...)
			if err != nil {
				return err
			}
			if f.gapText != "" || f.gapList {
				return usageError{fmt.Errorf("--gap-text and --gap-list are for twins: what an attached disk doesn't " +
					"give isn't known before it is read (rescue it first, and restore the twin)")}
			}
			wish, err := f.wish(0, 1, disks[1].Identity.Size)
			if err != nil {
				return err
			}
			doing, over := hearing(o)
			p, err := w.PlanRestore(cmd.Context(), workshop.Origin{Bench: disks[0]}, disks[1], wish, doing)
			over()
			if err != nil {
				return err
			}
			return o.writePairs(cmd, w, []*workshop.Pair{p}, &f)
		},
	}
	f.flags(c)
	return c
}

func (o *options) showSummary(s workshop.Summary) {
	block := func(title string, lines []string) {
		for i, l := range lines {
			if i > 0 {
				title = ""
			}
			o.say("%-12s %s", title, l)
		}
	}
	o.say("%s%s", strings.ToUpper(s.Head[:1]), s.Head[1:])
	block("Reads:", s.From)
	block("Writes to:", s.To)
	if len(s.Lost) == 0 {
		block("Lost:", []string{"nothing"})
	}
	block("Lost:", s.Lost)
	block("Stays:", s.Stays)
	block("Does:", s.Steps)
	block("Doubtful:", s.Doubts)
	block("Note:", s.Notes)
}

// confirm asks for the text that shows that the person looked at the target; whose says which one, where there are
// several.
func (o *options) confirm(s workshop.Summary, whose, given string) error {
	of, begin := "", "To go on"
	if whose != "" {
		of, begin = " ("+whose+")", "To go on with "+whose
	}
	if given == "" {
		fmt.Fprintf(o.err, "%s, type %s: ", begin, s.What)
		line, err := o.in.ReadString('\n')
		if err != nil && line == "" {
			return refusal{fmt.Errorf("nothing was written: there was nobody to confirm; use --confirm")}
		}
		given = line
	}
	if !strings.EqualFold(strings.TrimSpace(given), s.Confirm) {
		return refusal{fmt.Errorf("nothing was written: %q is not %s%s", strings.TrimSpace(given), s.What, of)}
	}
	return nil
}

func proveCommand(o *options) *cobra.Command {
	var onto string
	var from int
	var open bool
	c := &cobra.Command{
		Use:   "prove TWIN",
		Short: "Read a twin back, every block, or compare a target with it",
		Example: "  twinshelf prove \"Ticket desk\"\n" +
			"  twinshelf prove 20261030 --target /dev/sdc",
		Args: exactly("the twin"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			t, err := findTwin(cmd.Context(), w.Shelf, args[0])
			if err == nil {
				err = o.keys.twin(cmd.Context(), o, w, t)
			}
			if err != nil {
				return err
			}
			if onto == "" {
				running, proof := w.StartProofTwin(cmd.Context(), t)
				if err := o.follow(running); err != nil {
					return err
				}
				return o.showProof(proof())
			}
			targets, err := o.probed(cmd.Context(), w, onto)
			if err != nil {
				return err
			}
			running, proof, err := w.StartProofTarget(cmd.Context(),
				workshop.Origin{Twin: t, Disk: max(0, from-1), Unlocked: open}, targets[0])
			if err != nil {
				return err
			}
			if err := o.follow(running); err != nil {
				return err
			}
			return o.showProof(proof())
		},
	}
	c.Flags().StringVar(&onto, "target", "", "compare this disk with the twin")
	c.Flags().IntVar(&from, "from-disk", 0, "with --target: which disk of the twin, from 1")
	c.Flags().BoolVar(&open, "unlocked", false, "with --target: it was restored with --unlocked")
	return c
}

func (o *options) showProof(p *shelf.Proof) error {
	if o.json {
		if err := o.print(p); err != nil {
			return err
		}
	} else {
		for _, c := range p.Claims {
			mark := "holds"
			if !c.Holds {
				mark = "FAILS"
			}
			o.say("%s  %s: %s\n       %s", mark, c.About, c.Says, c.Evidence)
		}
		meanwhile := ""
		if p.Meanwhile > 0 {
			meanwhile = fmt.Sprintf(" (%s of it while the rest was written)", units.Bytes(p.Meanwhile))
		}
		o.say("Proof of %s: %s, %s compared%s.", p.Of, p.Words(), units.Bytes(p.Read), meanwhile)
	}
	if !p.Holds() {
		return fmt.Errorf("%w: %s; what holds can be used, look at the claims above", prove.ErrFails, p.Words())
	}
	return nil
}
