package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/bench"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/ready"
	"twinshelf/internal/run"
	"twinshelf/internal/scene"
	"twinshelf/internal/shelf"
	"twinshelf/internal/sizes"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// writing are the flags of every command that writes to a disk.
type writing struct {
	plan    bool
	confirm string
	draw    string // the file that the plan is drawn into
	drawn   func() *scene.Scene
}

func (f *writing) drawFlag(c *cobra.Command) {
	c.Flags().StringVar(&f.draw, "draw", "", "FILE.svg or FILE.pdf: draw the plan, before and after")
}

func (f *writing) flags(c *cobra.Command) {
	c.Flags().BoolVar(&f.plan, "plan", false, "only show what would be done")
	c.Flags().StringVar(&f.confirm, "confirm", "", "the confirmation that is otherwise asked for")
}

func readyCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use:   "ready",
		Short: "Make a disk ready: lay it out, change its layout, format it, erase it, undo that",
		Long: "\"lay\" lays a disk out anew: nothing on it stays. \"add\" and \"change\" keep what is there.\n" +
			"Everything is shown first (--plan: only shown), and before anything is written the target's\n" +
			"last four serial characters must be typed, or given with --confirm. What is overwritten is\n" +
			"kept, and \"back\" puts it back as long as the disk hasn't been used since.",
	}
	c.AddCommand(layCommand(o, true), layCommand(o, false), changeCommand(o), eraseCommand(o), checkDiskCommand(o),
		backCommand(o),
		mountCommand(o), unmountCommand(o))
	return c
}

// oneDisk opens the workshop and probes the disk that a command is about.
func (o *readyWork) oneDisk(ctx context.Context, ref string) (*workshop.Workshop, *bench.Disk, error) {
	w, err := o.workshop(ctx, false)
	if err != nil {
		return nil, nil, err
	}
	disks, err := o.probed(ctx, w, ref)
	if err != nil {
		return nil, nil, err
	}
	return w, disks[0], nil
}

// twinsOf are the twins of the open shelf; none without one.
func twinsOf(ctx context.Context, w *workshop.Workshop) []*shelf.Twin {
	if w.Shelf == nil {
		return nil
	}
	twins, _ := w.Shelf.Twins(ctx)
	return twins
}

// wishes are the flags that say what a layout shall be like.
type wishes struct {
	table, purpose, label, twin string
	parts, machines             []string
	with, kinds                 []string
	dates, disk                 int
	mount                       bool
}

func layCommand(o *options, anew bool) *cobra.Command {
	var f writing
	var ask wishes
	c := &cobra.Command{
		Use:   "add DISK",
		Short: "Add parts to what is on a disk; everything that is there stays",
		Example: "  twinshelf ready add /dev/sdd --part \"5 GB:exFAT:ferry\"\n" +
			"  twinshelf ready add B41C8 --part \"rest/2:ext4:oak\" --part rest --plan",
		Args: exactly("the disk"),
	}
	if anew {
		c.Use, c.Short = "lay DISK", "Lay a disk out anew; nothing on it stays"
		c.Example = "  twinshelf ready lay /dev/sdc --part \"512 MiB:FAT32:START\" --part \"rest:ext4:oak\"\n" +
			"  twinshelf ready lay 7731 --for storage --machine \"Ticket desk\" --machine \"Harbour kiosk\" " +
			"--dates 30 " +
			"--plan\n" +
			"  twinshelf ready lay 7731 --for shared --with Windows,macOS --label FERRY\n" +
			"  twinshelf ready lay 7731 --for system --twin \"Ticket desk\""
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		w, d, err := o.readyWork.oneDisk(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		draft, err := o.readyWork.draft(cmd.Context(), w, d, anew, &ask)
		if err != nil {
			return err
		}
		if err := o.readyWork.carryOut(cmd.Context(), w, d, draft, f); err != nil {
			return err
		}
		if ready.Purpose(ask.purpose) == ready.ForStorage && !f.plan && !o.json {
			return o.readyWork.storageNext(cmd.Context(), w, d.Path, ask.mount)
		}
		return nil
	}
	f.flags(c)
	f.drawFlag(c)
	c.Flags().BoolVar(&ask.mount, "mount", false, "with --for storage: mount the new part writable (as root)")
	c.Flags().StringArrayVar(&ask.parts, "part", nil, "a new part, \"SIZE[:FILE SYSTEM[:LABEL]]\"; sizes such as "+
		"250 GB, 465 GiB, 25%, rest, rest/2, \"used on Ticket desk plus half\"; may be repeated")
	c.Flags().StringVar(&ask.purpose, "for", "", "a purpose instead of parts: storage, shared, system or split")
	c.Flags().StringVar(&ask.label, "label", "", "with --for: label of the part (default for storage: shelf)")
	c.Flags().StringArrayVar(&ask.machines, "machine", nil, "with --for storage: a machine on the shelf that the "+
		"drive is for; may be repeated (default: all; without any, the part takes all the room)")
	c.Flags().IntVar(&ask.dates, "dates", 12, "with --for storage: how many dates of each machine it shall hold")
	c.Flags().StringSliceVar(&ask.with, "with", nil, "with --for shared: the systems that write it, such as "+
		"Windows,macOS,Linux")
	c.Flags().StringSliceVar(&ask.kinds, "kinds", nil, "with --for split: a file system for each part, such as "+
		"ext4,NTFS,exFAT")
	if anew {
		c.Flags().StringVar(&ask.table, "table", "gpt", "kind of table: gpt or mbr")
		c.Flags().StringVar(&ask.twin, "twin", "", "with --for system: the twin whose shape is taken")
		c.Flags().IntVar(&ask.disk, "from-disk", 1, "with --for system: which disk of the twin")
	}
	return c
}

// storageNext mounts the newest part of a drive that was made ready for a shelf, where that is wished, and says what
// comes next.
func (o *readyWork) storageNext(ctx context.Context, w *workshop.Workshop, path string, mount bool) error {
	folder := "FOLDER"
	if !mount {
		o.say("Next: mount the new part on a folder (twinshelf ready mount %s PART --writable), and make a shelf "+
			"there: twinshelf shelf new FOLDER/shelf --name NAME", path)
		return nil
	}
	disks, err := o.probed(ctx, w, path)
	if err != nil {
		return err
	}
	parts := disks[0].Survey.Parts()
	if folder, err = w.MountWritable(ctx, disks[0], parts[len(parts)-1].Number()); err != nil {
		return err
	}
	o.say("Mounted writable at %s. Next: make a shelf there: twinshelf shelf new %s/shelf --name NAME", folder, folder)
	return nil
}

// draft turns the flags into a draft.
func (o *readyWork) draft(ctx context.Context, w *workshop.Workshop, d *bench.Disk, anew bool,
	ask *wishes) (*ready.Draft, error) {
	twins := twinsOf(ctx, w)
	kind := table.GPT
	switch strings.ToLower(ask.table) {
	case "", "gpt":
	case "mbr":
		kind = table.MBR
	default:
		return nil, usageError{fmt.Errorf("%q is no kind of table that can be made; choose gpt or mbr", ask.table)}
	}
	if (ask.purpose == "") == (len(ask.parts) == 0) && !(anew && ask.purpose == "") {
		return nil, usageError{fmt.Errorf("say either the parts with --part, or what the disk is for with --for")}
	}
	var t *shelf.Twin
	if ask.twin != "" {
		if w.Shelf == nil {
			return nil, usageError{workshop.ErrNoShelf}
		}
		var err error
		if t, err = findTwin(ctx, w.Shelf, ask.twin); err != nil {
			return nil, err
		}
		if ask.disk < 1 || ask.disk > len(t.Disks) {
			return nil, usageError{fmt.Errorf("this twin has %s", units.Plural(len(t.Disks), "disk"))}
		}
		kind = t.Disks[ask.disk-1].Table.Kind
	}
	draft, err := workshop.DraftChange(d)
	if anew {
		draft, err = workshop.DraftAnew(d, kind)
	}
	if err != nil {
		return nil, err
	}
	used := func(machine string) (int64, error) { return workshop.UsedOn(twins, machine) }
	for _, text := range ask.parts {
		wish, err := ready.ParseWish(text)
		if err != nil {
			return nil, usageError{err}
		}
		size, err := draft.AddWish(draft.Gap(), wish, used)
		if err != nil {
			return nil, usageError{fmt.Errorf("the part %q can't be: %w", text, err)}
		}
		if size.Hint != "" {
			draft.Notes = append(draft.Notes, size.Hint)
		}
	}
	return draft, o.purpose(draft, twins, t, ask)
}

func (o *readyWork) purpose(draft *ready.Draft, twins []*shelf.Twin, t *shelf.Twin, ask *wishes) error {
	switch ready.Purpose(ask.purpose) {
	case "":
		return nil
	case ready.ForStorage:
		label := cmp.Or(ask.label, "shelf")
		machines := ask.machines
		if len(machines) == 0 {
			machines = workshop.Machines(twins)
		}
		if len(machines) == 0 {
			draft.Notes = append(draft.Notes, "nothing is on a shelf yet, so the part takes all the room")
			return draft.Storage(0, label)
		}
		need, err := workshop.ShelfNeed(twins, machines, ask.dates)
		if err != nil {
			return usageError{err}
		}
		draft.Notes = append(draft.Notes, need.Words...)
		return draft.Storage(need.Bytes, label)
	case ready.ForSharing:
		return draft.Shared(ask.with, ask.label)
	case ready.ForKinds:
		return draft.Split(ask.kinds)
	case ready.ForSystem:
		if t == nil {
			return usageError{fmt.Errorf("whose shape? Name a twin with --twin")}
		}
		return draft.System(workshop.ShapeOf(t, ask.disk-1))
	}
	return usageError{fmt.Errorf("%q is no purpose; choose %s", ask.purpose, units.Choices(ready.Purposes))}
}

func changeCommand(o *options) *cobra.Command {
	var f writing
	var ask changes
	c := &cobra.Command{
		Use:   "change DISK PART",
		Short: "Change one part: size, name, type, file system, or take it out; the others stay",
		Example: "  twinshelf ready change B41C8 1 --size 2TB --plan\n" +
			"  twinshelf ready change /dev/sdd 1 --format exFAT --label FERRY\n" +
			"  twinshelf ready change /dev/sdd 1 --remove",
		Args: exactly("the disk", "the number of the part"),
		RunE: func(cmd *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[1])
			if err != nil {
				return usageError{fmt.Errorf("%q is no number of a part", args[1])}
			}
			w, d, err := o.readyWork.oneDisk(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			draft, err := workshop.DraftChange(d)
			if err != nil {
				return err
			}
			i, err := draft.Number(number)
			if err != nil {
				return usageError{err}
			}
			ask.given = cmd.Flags().Changed
			used := func(m string) (int64, error) { return workshop.UsedOn(twinsOf(cmd.Context(), w), m) }
			if err := ask.apply(draft, i, used); err != nil {
				return usageError{err}
			}
			return o.readyWork.carryOut(cmd.Context(), w, d, draft, f)
		},
	}
	f.flags(c)
	f.drawFlag(c)
	c.Flags().StringVar(&ask.size, "size", "", "new size; the part keeps its place, \"rest\" is up to the next one")
	c.Flags().StringVar(&ask.name, "name", "", "new name in the table (GPT)")
	c.Flags().StringVar(&ask.kind, "type", "", "what the part is for, in words or as a number of the specification")
	c.Flags().StringVar(&ask.form, "format", "", "make a new file system: "+strings.Join(kindNames(), ", "))
	c.Flags().StringVar(&ask.label, "label", "", "with --format: its label")
	c.Flags().StringVar(&ask.unit, "unit", "", "with --format: allocation unit, such as 64 KiB")
	c.Flags().BoolVar(&ask.remove, "remove", false, "remove the part from the table")
	return c
}

// changes are what is to be changed of a part.
type changes struct {
	size, name, kind, form, label, unit string
	remove                              bool
	given                               func(flag string) bool
}

// apply changes part i of a draft. used says how many bytes are in use on a machine.
func (c *changes) apply(draft *ready.Draft, i int, used func(machine string) (int64, error)) error {
	if c.remove {
		draft.Remove(i)
		return nil
	}
	if c.given("size") {
		n, err := sizes.Parse(c.size, sizes.Room{Disk: draft.Identity.Size, Rest: draft.Growable(i), Used: used})
		if err != nil {
			return err
		}
		if err := draft.Resize(i, n.Bytes); err != nil {
			return err
		}
	}
	if err := c.format(draft, i); err != nil {
		return err
	}
	if c.given("name") {
		if err := draft.SetName(i, c.name); err != nil {
			return err
		}
	}
	if c.given("type") {
		return draft.SetType(i, c.kind)
	}
	return nil
}

// format gives the part a new file system, where one is wanted.
func (c *changes) format(draft *ready.Draft, i int) error {
	if !c.given("format") && !c.given("label") && !c.given("unit") {
		return nil
	}
	if !c.given("format") {
		return fmt.Errorf("a label or a unit comes with a new file system: give --format too; what is on the part " +
			"is then gone")
	}
	var n int64
	if c.given("unit") {
		s, err := sizes.Parse(c.unit, sizes.Room{Disk: draft.Identity.Size})
		if err != nil {
			return err
		}
		n = s.Bytes
	}
	return draft.SetForm(i, c.form, c.label, n)
}

func kindNames() []string {
	var out []string
	for _, m := range families.Makers() {
		out = append(out, m.Kind)
	}
	return out
}

// carryOut shows a draft's plan, asks, carries it out, and shows the disk as it is then.
func (o *readyWork) carryOut(ctx context.Context, w *workshop.Workshop, d *bench.Disk, draft *ready.Draft,
	f writing) error {
	p, err := w.PlanReady(ctx, draft, d)
	if err != nil {
		return err
	}
	planned, err := p.Survey(ctx)
	if err != nil {
		return err
	}
	as := *d
	as.Survey = planned
	details := map[string]any{"planned": answer.DiskOf(&as), "seconds": p.Estimate(),
		"bytes": p.Bytes()}
	f.drawn = func() *scene.Scene { return workshop.DrawReady(ctx, p) }
	show := func() {
		o.say("Then:")
		o.showDisk(&as)
	}
	return o.approve(ctx, w, d, workshop.SummarizeReady(p, draft.New, d), f, details, show, func() *run.Run {
		return w.StartReady(ctx, p)
	})
}

// approve shows a summary, stops there for --plan, asks for the confirmation, works, and shows the disk.
func (o *readyWork) approve(ctx context.Context, w *workshop.Workshop, d *bench.Disk, s workshop.Summary, f writing,
	details map[string]any, show func(), start func() *run.Run) error {
	details["summary"] = s
	return o.undertake(undertaking{summaries: []workshop.Summary{s}, plan: f.plan, planned: details, show: show,
		confirm: []string{f.confirm}, drawTo: f.draw, drawn: f.drawn, work: func() error {
			err := afterCancel(o.follow(start()), "the disk is written in part: do it again, or see what "+
				"\"twinshelf ready back\" can put back")
			if err != nil {
				return err
			}
			return o.showAfter(ctx, w, d.Path)
		}})
}

// showAfter shows a disk as it is after it was written.
func (o *readyWork) showAfter(ctx context.Context, w *workshop.Workshop, path string) error {
	after, err := o.probed(ctx, w, path)
	if err != nil {
		return err
	}
	if o.json {
		return o.print(map[string]any{"disks": []answer.Disk{answer.DiskOf(after[0])}})
	}
	o.say("Done, and read back. Now:")
	o.showDisk(after[0])
	return nil
}

func eraseCommand(o *options) *cobra.Command {
	var f writing
	var how string
	c := &cobra.Command{
		Use:   "erase DISK",
		Short: "Erase a disk, depending on where it goes next",
		Long: "quick clears the table and all signatures (a keepsake makes it possible to go back);\n" +
			"zeros and random overwrite everything and read it back; discard tells a flash drive\n" +
			"that nothing is needed any more; check writes and reads back every sector of a drive that is to be " +
			"trusted.\n" +
			"--plan says what each means for this disk.",
		Example: "  twinshelf ready erase /dev/sdc --how quick\n  twinshelf ready erase 7731 --how random --plan\n" +
			"  twinshelf ready erase 7731 --how check --plan",
		Args: exactly("the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, d, err := o.readyWork.oneDisk(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			ways := ready.Ways(workshop.MediumOf(d))
			if !slices.Contains(ways, ready.Way(how)) {
				return usageError{fmt.Errorf("say with --how in which way; this disk offers %s", units.Choices(ways))}
			}
			e, err := w.PlanErase(cmd.Context(), d, ready.Way(how))
			if err != nil {
				return err
			}
			details := map[string]any{"seconds": e.Estimate()}
			return o.readyWork.approve(cmd.Context(), w, d, workshop.SummarizeErase(e, d), f, details, nil,
				func() *run.Run {
					return w.StartErase(cmd.Context(), e)
				})
		},
	}
	f.flags(c)
	c.Flags().StringVar(&how, "how", "", "quick, zeros, random, discard or check")
	return c
}

func backCommand(o *options) *cobra.Command {
	var f writing
	var name string
	var list, forget bool
	c := &cobra.Command{
		Use:   "back DISK",
		Short: "Undo the last change made to a disk here",
		Example: "  twinshelf ready back 7731 --list\n  twinshelf ready back 7731 --plan\n  twinshelf ready " +
			"back 7731 " +
			"--keepsake 20261125T081500.000",
		Args: exactly("the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, d, err := o.readyWork.oneDisk(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if list {
				return o.readyWork.listKeepsakes(w, d)
			}
			if forget && name == "" {
				return usageError{fmt.Errorf("which one is to be forgotten? Name it with --keepsake")}
			}
			r, err := w.PlanReturn(d, name)
			if err != nil {
				return err
			}
			if forget {
				if err := r.Keepsake.Forget(); err != nil || !o.json {
					return err
				}
				return o.print(map[string]any{"forgotten": r.Keepsake.Name()})
			}
			return o.readyWork.approve(cmd.Context(), w, d, workshop.SummarizeReturn(r, d), f,
				map[string]any{"keepsake": keepsakeOf(r.Keepsake)}, nil, func() *run.Run {
					return w.StartReturn(cmd.Context(), r)
				})
		},
	}
	f.flags(c)
	c.Flags().StringVar(&name, "keepsake", "", "which keepsake (default: the newest)")
	c.Flags().BoolVar(&list, "list", false, "list the keepsakes of this disk")
	c.Flags().BoolVar(&forget, "forget", false, "remove the keepsake for good; nothing is written to the disk")
	return c
}

// keepsake is a keepsake in an answer.
type keepsake struct {
	Name       string    `json:"name"`
	Taken      time.Time `json:"taken"`
	Why        string    `json:"why"`
	Held       []string  `json:"held"`
	Size       int64     `json:"size"`
	Finished   bool      `json:"finished"`
	Incomplete string    `json:"incomplete,omitempty"`
}

func keepsakeOf(k *ready.Keepsake) keepsake {
	return keepsake{k.Name(), k.Taken, k.Why, k.Held, k.Size(), k.Finished, k.Incomplete}
}

func (o *readyWork) listKeepsakes(w *workshop.Workshop, d *bench.Disk) error {
	all, err := w.Keepsakes().List(d.Identity)
	if err != nil {
		return err
	}
	if o.json {
		var out []keepsake
		for _, k := range all {
			out = append(out, keepsakeOf(k))
		}
		return o.print(map[string]any{"keepsakes": out})
	}
	if len(all) == 0 {
		o.say("There are no keepsakes of this disk.")
	}
	for _, k := range all {
		o.say("%s  %s, before %s, %s", k.Name(), units.Moment(k.Taken), k.Why, units.Bytes(k.Size()))
		for _, h := range k.Held {
			o.say("    %s", h)
		}
		if k.Incomplete != "" {
			o.say("    can't be put back: %s", k.Incomplete)
		}
	}
	return nil
}
