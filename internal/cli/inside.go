package cli

import (
	"cmp"
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
	"twinshelf/internal/bench"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// look opens what a reference means: a twin, or a disk that is attached.
func (o *insideLook) look(ctx context.Context, ref string) (*workshop.Workshop, *inside.Machine, error) {
	_, statErr := os.Stat(ref)
	w, err := o.workshop(ctx, false)
	if err != nil {
		return nil, nil, err
	}
	in, err := o.lookWith(ctx, w, ref, statErr == nil)
	return w, in, err
}

func (o *insideLook) lookWith(ctx context.Context, w *workshop.Workshop, ref string,
	isFile bool) (*inside.Machine, error) {
	from, err := o.origin(ctx, w, ref, isFile, openedOne)
	if err != nil {
		return nil, err
	}
	return w.LookInto(ctx, from)
}

// opening opens an attached disk: openedOne, or probedOne where it matters what is on it.
type opening func(context.Context, *options, *workshop.Workshop, string) (*bench.Disk, error)

// origin is what a reference means: a twin, or a disk that is attached.
func (o *insideLook) origin(ctx context.Context, w *workshop.Workshop, ref string, isFile bool,
	open opening) (workshop.Origin, error) {
	var twinErr error
	if w.Shelf != nil && !isFile {
		t, err := w.Shelf.Find(ctx, ref)
		if err == nil {
			return workshop.Origin{Twin: t}, o.keys.twin(ctx, o.options, w, t)
		}
		twinErr = err
	}
	d, err := open(ctx, o.options, w, ref)
	if err != nil {
		if twinErr != nil {
			err = usageError{fmt.Errorf("%q is no twin of this shelf (%v) and no disk on the bench", ref, twinErr)}
		}
		return workshop.Origin{}, err
	}
	return workshop.Origin{Bench: d}, nil
}

// resolve finds an item; one that only another date has is named with that date.
func resolve(ctx context.Context, w *workshop.Workshop, in *inside.Machine,
	text string) (*inside.Part, fsys.Item, string, error) {
	p, it, path, err := in.Resolve(ctx, text)
	if errors.As(err, new(*inside.NotThere)) {
		lib, none := w.Library()
		if none != nil {
			return p, it, path, err
		}
		if t := lib.Having(ctx, in, text); t != nil {
			err = fmt.Errorf("%w on that date; the twin of %s has it: %s", err, units.Moment(t.Taken), t.ID)
		}
	}
	return p, it, path, err
}

const refHelp = "REF is a twin (its ID, the beginning of one, or the name of a machine for its newest), or an " +
	"attached disk or image file.\n" +
	"PATH is written as PART:PATH (\"2:srv/kiosk\"), of a machine with several disks DISK.PART:PATH (\"2.1:Mail\"); " +
	"without a\n" +
	"part in front it is looked for in all of them.\n"

// itemJSON is an item for machines.
type itemJSON struct {
	Name     string        `json:"name"`
	Path     string        `json:"path,omitempty"`
	Kind     string        `json:"kind"`
	Size     int64         `json:"size"`
	Mode     string        `json:"mode,omitempty"`
	Modified *time.Time    `json:"modified,omitempty"`
	Changed  *time.Time    `json:"changed,omitempty"`
	Created  *time.Time    `json:"created,omitempty"`
	UID      uint32        `json:"uid"`
	GID      uint32        `json:"gid"`
	Links    int           `json:"links,omitempty"`
	Hidden   bool          `json:"hidden,omitempty"`
	Target   string        `json:"target,omitempty"`
	XAttrs   []string      `json:"attributes,omitempty"`
	Access   []string      `json:"access,omitempty"`
	Streams  []string      `json:"streams,omitempty"`
	Remark   string        `json:"remark,omitempty"`
	Spans    []answer.Span `json:"spans,omitempty"` // bytes of the disk
	Gap      int64         `json:"gap,omitempty"`   // bytes that could not be read when it was captured
	Problem  string        `json:"problem,omitempty"`
}

func describeItem(it fsys.Item) itemJSON {
	at := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	return itemJSON{Name: it.Name, Kind: inside.ItemWord(it), Size: it.Size, Mode: it.Mode.String(),
		Modified: at(it.Modified), Changed: at(it.Changed), Created: at(it.Created), UID: it.UID, GID: it.GID,
		Links: it.Links, Hidden: inside.Unseen(it)}
}

func when(t time.Time) string {
	if t.IsZero() {
		return "–"
	}
	return units.Moment(t)
}

func listCommand(o *options) *cobra.Command {
	var hidden, dates bool
	var order string
	c := &cobra.Command{
		Use:   "list REF [PATH]",
		Short: "Look inside: list a folder at a date, or describe one item",
		Long: "Lists the parts, a folder, or what is known of a file: times, owner, attributes, streams, and " +
			"where it " +
			"lies.\n" + refHelp + "With --dates it says at which dates of the machine the item is there, and " +
			"where it " +
			"changed.",
		Example: "  twinshelf list \"Ticket desk\"\n  twinshelf list \"Harbour kiosk\" 2:srv/kiosk\n" +
			"  twinshelf list 20261116 2:srv/kiosk/fares-2026.csv --dates\n  twinshelf list /dev/sdb 1:",
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains([]string{"name", "size", "changed"}, order) {
				return usageError{fmt.Errorf("--sort knows name, size and changed, not %q", order)}
			}
			w, in, err := o.insideLook.look(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return o.insideLook.listParts(cmd.Context(), in)
			}
			p, it, path, err := resolve(cmd.Context(), w, in, args[1])
			switch {
			case err != nil:
				return err
			case dates:
				return o.insideLook.listDates(cmd.Context(), w, in, p, path)
			case it.IsDir():
				return o.insideLook.listFolder(cmd.Context(), in, p, it, path, hidden, order)
			}
			return o.insideLook.listItem(cmd.Context(), in, p, it, path)
		},
	}
	c.Flags().BoolVar(&hidden, "hidden", false, "include hidden and system items")
	c.Flags().BoolVar(&dates, "dates", false, "show the item at every date of the machine")
	c.Flags().StringVar(&order, "sort", "name", "sort by name, size or changed")
	return c
}

func (o *insideLook) listParts(ctx context.Context, in *inside.Machine) error {
	var all []answer.Part
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	for _, p := range in.Parts {
		x := answer.PartInside(p)
		if _, err := p.Tree(ctx); err != nil {
			x.Problem = plainCause(err)
		}
		all = append(all, x)
		remark := x.Problem
		if remark == "" && p.Unclean != "" {
			remark = "not quiet, what was written last may not show: " + p.Unclean
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", p.Label("", in.Disks), p.Kind, p.Title, units.Bytes(x.Size), remark)
	}
	if o.json {
		return o.print(map[string]any{"parts": all})
	}
	return t.Flush()
}

// plainCause is the innermost reason.
func plainCause(err error) string {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err.Error()
		}
		err = next
	}
}

func (o *insideLook) listFolder(ctx context.Context, in *inside.Machine, p *inside.Part, folder fsys.Item, path string,
	hidden bool, order string) error {
	tree, err := p.Tree(ctx)
	if err != nil {
		return err
	}
	entries, problem := fsys.Entries(tree, folder)
	inside.SortEntries(entries, order)
	all := []itemJSON{}
	gaps := inside.GapsAmong(ctx, tree, entries)
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', tabwriter.AlignRight)
	bad, unseen := 0, 0
	for _, e := range entries {
		x := describeItem(e.Item)
		if e.Err != nil {
			bad++
			x = itemJSON{Name: e.Name, Kind: "unreadable", Problem: e.Err.Error()}
		} else if x.Hidden && !hidden {
			unseen++
			continue
		}
		x.Gap = gaps[e.Name]
		all = append(all, x)
		size := units.Bytes(e.Size)
		if !e.Mode.IsRegular() || e.Err != nil {
			size = x.Kind
		}
		fmt.Fprintf(t, "%s\t%s\t  %s\n", size, when(e.Modified), inside.Visible(e.Name)+folderMark(e.Item)+
			because(cmp.Or(x.Problem, inside.GapWords(x.Gap))))
	}
	if o.json {
		err = o.print(map[string]any{"part": p.Number, "disk": p.Disk + 1, "path": path, "items": all})
	} else {
		err = t.Flush()
		if unseen > 0 {
			o.say("%s not shown: --hidden shows them.", units.Plural(unseen, "hidden item"))
		}
		if len(entries) == 0 {
			o.say("The folder is empty.")
		}
	}
	if problem != nil || bad > 0 {
		return doubtful{fmt.Errorf("%s can't be read whole: %w", p.Label(path, in.Disks),
			errors.Join(problem, someBad(bad)))}
	}
	return err
}

func someBad(n int) error {
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%s", units.Plural(n, "damaged item"))
}

func because(s string) string {
	if s != "" {
		return "  (" + s + ")"
	}
	return ""
}

func folderMark(it fsys.Item) string {
	if it.IsDir() {
		return "/"
	}
	return ""
}

func (o *insideLook) listItem(ctx context.Context, in *inside.Machine, p *inside.Part, it fsys.Item,
	path string) error {
	tree, err := p.Tree(ctx)
	if err != nil {
		return err
	}
	x := describeItem(it)
	x.Path = path
	more, err := tree.More(it)
	if err != nil {
		x.Problem = err.Error()
	}
	x.Target, x.Remark, x.Access = more.Target, more.Remark, more.Access
	for _, a := range more.XAttrs {
		x.XAttrs = append(x.XAttrs, a.Name)
	}
	for _, s := range more.Streams {
		x.Streams = append(x.Streams, fmt.Sprintf("%s (%s)", s.Name, units.Bytes(s.Size)))
	}
	if it.Mode.IsRegular() {
		c, err := tree.Open(it, "")
		if err != nil {
			x.Problem = err.Error()
		} else {
			x.Gap = fsys.GapOf(c)
			for _, sp := range c.Spans() {
				x.Spans = append(x.Spans, answer.Span{Start: p.Span.Start + sp.Start, Size: sp.Len()})
			}
		}
	}
	if o.json {
		return o.print(map[string]any{"disk": p.Disk + 1, "part": p.Number, "item": x})
	}
	o.say("%s, a %s of %s", p.Label(path, in.Disks), x.Kind, units.Exact(it.Size))
	o.say("  modified %s, created %s, changed %s", when(it.Modified), when(it.Created), when(it.Changed))
	o.say("  %s, owner %d:%d, %s", x.Mode, x.UID, x.GID, units.Plural(it.Links, "name"))
	for _, line := range []struct{ head, text string }{{"leads to", inside.Visible(x.Target)},
		{"access", strings.Join(x.Access, "; ")}, {"attributes", strings.Join(x.XAttrs, ", ")}, {"streams",
			strings.Join(x.Streams, ", ")}, {"note", x.Remark},
		{"gap", inside.GapWords(x.Gap)}, {"problem", x.Problem}} {
		if line.text != "" {
			o.say("  %s: %s", line.head, line.text)
		}
	}
	for i, sp := range x.Spans {
		if i == 8 {
			o.say("  … in %d pieces", len(x.Spans))
			break
		}
		o.say("  lies at bytes %d to %d of the disk", sp.Start, sp.Start+sp.Size-1)
	}
	return nil
}

// mostCompared is up to which size files are read to tell whether they changed, in bytes.
const mostCompared = 4 << 30

func (o *insideLook) listDates(ctx context.Context, w *workshop.Workshop, in *inside.Machine, p *inside.Part,
	path string) error {
	if in.Twin == nil {
		return usageError{fmt.Errorf("--dates goes over the dates of a twin's machine; name a twin")}
	}
	lib, err := w.Library()
	if err != nil {
		return err
	}
	sights, err := lib.Follow(ctx, in.Twin.Machine, p, path)
	if err != nil {
		return err
	}
	if err := lib.SettleVersions(ctx, p, path, sights, mostCompared); err != nil {
		return err
	}
	type line struct {
		Twin     string     `json:"twin"`
		Taken    time.Time  `json:"taken"`
		There    bool       `json:"there"`
		Version  int        `json:"version,omitempty"`
		Size     int64      `json:"size"`
		Modified *time.Time `json:"modified,omitempty"`
		Unknown  string     `json:"unknown,omitempty"`
	}
	lines := []line{}
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	for _, s := range sights {
		l := line{Twin: s.Twin.ID, Taken: s.Twin.Taken, There: s.There, Version: s.Version, Size: s.Entry.Size,
			Unknown: s.Why}
		text := "not there"
		switch {
		case s.Why != "":
			text = "not known: " + s.Why
		case s.There:
			l.Modified = &s.Entry.Modified
			text = fmt.Sprintf("version %d\t%s\t%s", s.Version, units.Bytes(s.Entry.Size), when(s.Entry.Modified))
		}
		lines = append(lines, l)
		fmt.Fprintf(t, "%s\t%s\t%s\n", units.Moment(s.Twin.Taken), s.Twin.ID, text)
	}
	if o.json {
		return o.print(map[string]any{"disk": p.Disk + 1, "part": p.Number, "path": path, "dates": lines})
	}
	return t.Flush()
}
