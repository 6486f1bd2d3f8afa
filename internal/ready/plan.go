package ready

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Step is one thing that a plan writes, in the order of the list.
type Step struct {
	Title   string
	Patches []disk.Patch // on the disk, ascending
	// Table says that the order of the sectors matters: from the last to the first, each flushed.
	Table bool
}

// Bytes is how much the step writes.
func (s Step) Bytes() int64 {
	n := int64(0)
	for _, p := range s.Patches {
		n += p.Span().Len()
	}
	return n
}

// Plan is a change of a disk that hasn't begun.
type Plan struct {
	Target disk.Target
	Steps  []Step
	// Stays and Goes say in words what is kept and what is lost.
	Stays, Goes []string
	Notes       []string

	why     string
	device  disk.Device
	planned *disk.Overlay
	heads   map[int64]string // of the parts as they were planned for, by their start
	old     []survey.Area
}

// edge is how much of the start and end of the disk and of formatted parts is
// cleared of old signatures, in bytes.
const edge = units.MiB

// ErrNothing means that a draft changes nothing.
var ErrNothing = errors.New("nothing would be changed")

// Plan works out what the draft means for the disk. dev is the disk as it is now.
func (d *Draft) Plan(ctx context.Context, dev disk.Device, target disk.Target) (*Plan, error) {
	p := &Plan{Target: target, device: dev, old: d.Before.Parts(), why: "change of the table"}
	if d.New {
		p.why = "laying out anew"
	}
	tablePatches, err := d.tablePatches(dev)
	if err != nil {
		return nil, err
	}
	var written span.Set // by the table and by new file systems
	for _, t := range tablePatches {
		written.Add(t.Span())
	}
	var steps []Step
	for i := range d.Parts {
		part := &d.Parts[i]
		var step Step
		switch {
		case part.Form != nil:
			step, err = formStep(part)
		case part.Raw != nil:
			step, err = rawStep(part)
		default:
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, q := range step.Patches {
			if written.Overlaps(q.Span()) {
				return nil, fmt.Errorf("part %d overlaps the table or another part at byte %d", part.Number, q.Off)
			}
			written.Add(q.Span())
		}
		steps = append(steps, step)
	}
	if d.New {
		steps = append([]Step{clearing(d.Before)}, steps...)
	}
	if len(tablePatches) > 0 {
		steps = append(steps, Step{"Write the table", tablePatches, true})
	}
	if len(steps) == 0 {
		return nil, ErrNothing
	}
	p.Steps = steps
	d.words(p)
	if err := p.rememberHeads(); err != nil {
		return nil, err
	}
	return p, p.compose(ctx, d)
}

// tablePatches are the sectors of the table that differ from what is there.
func (d *Draft) tablePatches(dev disk.Device) ([]disk.Patch, error) {
	if len(d.Code) > mostCode {
		return nil, fmt.Errorf("start-up code of %d bytes doesn't fit into the first sector", len(d.Code))
	}
	l := table.Layout{Kind: d.Kind, Sector: d.Identity.Sector, ID: d.ID, Entries: d.entries, Code: d.Code}
	for _, p := range d.Parts {
		l.Parts = append(l.Parts, p.Part)
	}
	if !d.New {
		l.First = make([]byte, d.Identity.Sector)
		if err := disk.ReadFull(dev, l.First, 0); err != nil {
			return nil, err
		}
	}
	patches, err := table.Build(l, down(d.Identity.Size, d.sector()))
	if err != nil {
		return nil, err
	}
	if patches, err = disk.SortPatches(patches, d.Identity.Size); err != nil || d.New {
		return patches, err
	}
	return slices.DeleteFunc(patches, func(p disk.Patch) bool {
		now := make([]byte, len(p.Bytes()))
		return disk.ReadFull(dev, now, p.Off) == nil && string(now) == string(p.Bytes())
	}), nil
}

// formStep makes a part's new file system over cleared ends of the part.
func formStep(part *Part) (Step, error) {
	f := *part.Form
	f.Size, f.Start = part.Span.Len(), part.Span.Start
	m, err := families.MakerOf(f.Kind)
	if err != nil {
		return Step{}, err
	}
	patches, err := m.Format(f)
	if err == nil {
		patches, err = filled(f, patches, part.Files)
	}
	if err != nil {
		return Step{}, fmt.Errorf("part %d: %w", part.Number, err)
	}
	n := min(edge, f.Size/2)
	patches = disk.Over(patches, []disk.Patch{
		{Off: 0, Zeros: n, Why: "clear old signatures"},
		{Off: f.Size - n, Zeros: n, Why: "clear old signatures"},
		{Off: min(ghostAt, f.Size-n), Zeros: min(ghostLen, max(0, f.Size-n-ghostAt)),
			Why: "clear an old copy of a super block"},
	})
	if patches, err = disk.SortPatches(patches, f.Size); err != nil {
		return Step{}, err
	}
	for i := range patches {
		patches[i].Off += part.Span.Start
	}
	title := fmt.Sprintf("Make %s on part %d", f.Kind, part.Number)
	if f.Label != "" {
		title = fmt.Sprintf("Make %s “%s” on part %d", f.Kind, f.Label, part.Number)
	}
	return Step{Title: title, Patches: patches}, nil
}

// Some file systems keep a copy of their super block at 64 MiB.
const (
	ghostAt  = 64 * units.MiB
	ghostLen = 64 << 10
)

// clearing removes what is recognised of a disk's earlier life: both ends of
// the disk and of every part, and the copies that lie elsewhere. It begins with the table.
func clearing(s *survey.Survey) Step {
	size := s.Device.Size()
	n := min(edge, size/2)
	old := []span.Span{span.At(0, n), {Start: size - n, End: size}}
	for _, a := range append(s.Parts(), survey.Area{Span: span.Span{End: size}}) {
		k := min(edge, a.Span.Len()/2)
		old = append(old, span.At(a.Span.Start, k), span.Span{Start: a.Span.End - k, End: a.Span.End},
			span.At(a.Span.Start+ghostAt, ghostLen).Intersect(a.Span))
	}
	step := Step{Title: "Clear the signatures of what was there"}
	for sp := range span.Of(old...).All() {
		step.Patches = append(step.Patches, disk.Patch{Off: sp.Start, Zeros: sp.Len(), Why: "clear what was there"})
	}
	return step
}

// describeOld says what a part of the disk is now.
func describeOld(a *survey.Area) string {
	used := units.Bytes(a.Content.Used) + " in use"
	if !a.Content.Maps {
		used = "use unknown"
	}
	return fmt.Sprintf("part %d  %s  %s  %s, %s, %s", a.Part.Number, a.Title(), a.Holds(), units.Bytes(a.Span.Len()),
		used, a.Role)
}

// words fills in what stays and what goes.
func (d *Draft) words(p *Plan) {
	for _, a := range p.old {
		i := slices.IndexFunc(d.Parts, func(q Part) bool {
			return q.Old != nil && q.Old.Span.Start == a.Span.Start && q.Old.Part.Number == a.Part.Number
		})
		text := describeOld(&a)
		switch {
		case i < 0 && d.New:
			p.Goes = append(p.Goes, text)
		case i < 0:
			p.Goes = append(p.Goes, text+" (removed from the table)")
		case d.Parts[i].Form != nil:
			p.Goes = append(p.Goes, text+" (formatted anew)")
		case d.Parts[i].rewritten():
			p.Goes = append(p.Goes, text+" (written anew)")
		default:
			if n := d.Parts[i].Span.Len(); n != a.Span.Len() {
				text += fmt.Sprintf(" (the part becomes %s, its file system stays as large as it is)", units.Bytes(n))
			}
			p.Stays = append(p.Stays, text)
		}
	}
	if d.New && len(p.old) == 0 {
		p.Goes = append(p.Goes, d.Before.Unnamed()...)
	}
	p.Notes = append(p.Notes, d.Notes...)
	if d.Kind == table.MBR {
		if reach := int64(maxMBR) * d.sector(); d.Identity.Size > reach {
			p.Notes = append(p.Notes,
				fmt.Sprintf("an MBR reaches up to %s; %s of this disk stay out of its reach, a GPT would use all of it",
					units.Bytes(reach), units.Bytes(d.Identity.Size-reach)))
		}
		if slices.ContainsFunc(d.Parts, func(q Part) bool { return q.Logical && q.Old == nil }) {
			p.Notes = append(p.Notes, "an MBR has room for four entries: from the fourth part on they are logical "+
				"ones, numbered from 5")
		}
	}
	for _, q := range d.Parts {
		if q.Type == table.TypeESP && q.Form != nil && !firmwareReads(q.Form.Kind) {
			p.Notes = append(p.Notes,
				fmt.Sprintf("part %d is for starting a machine, and a machine's firmware reads only FAT there, not %s",
					q.Number, q.Form.Kind))
		}
	}
	for i, q := range d.Parts {
		if n := d.leftAfter(i); n > 0 {
			p.Notes = append(p.Notes, fmt.Sprintf("%s after part %d stay free, as the systems that use %s leave them",
				units.Binary(n), q.Number, q.Form.Kind))
		}
	}
	if rest := d.Rest(); rest > 0 {
		p.Notes = append(p.Notes, units.Bytes(rest)+" stay without a part")
	}
	n := int64(0)
	for _, s := range p.Steps {
		n += s.Bytes()
	}
	p.Notes = append(p.Notes, fmt.Sprintf("%s are written and read back", units.Bytes(n)))
}

// headLen is how much of each old part tells whether it is still the same, in bytes.
const headLen = 64 << 10

func head(dev disk.Device, a *survey.Area) (string, error) {
	b := make([]byte, min(headLen, a.Span.Len()))
	if err := disk.ReadFull(dev, b, a.Span.Start); err != nil {
		return "", err
	}
	sum := blake3.Sum256(b)
	return hex.EncodeToString(sum[:16]), nil
}

func (p *Plan) rememberHeads() error {
	p.heads = map[int64]string{}
	for i := range p.old {
		h, err := head(p.device, &p.old[i])
		if err != nil {
			return fmt.Errorf("part %d can't be read: %w", p.old[i].Part.Number, err)
		}
		p.heads[p.old[i].Span.Start] = h
	}
	return nil
}

// unchanged refuses when a part's beginning isn't what it was when the plan was made.
func (p *Plan) unchanged(dev disk.Device) error {
	for i := range p.old {
		a := &p.old[i]
		if h, err := head(dev, a); err != nil || h != p.heads[a.Span.Start] {
			return &disk.Refusal{Disk: disk.Sticker(p.Target.Identity),
				Reason: fmt.Sprintf("part %d changed since the plan was made", a.Part.Number),
				Remedy: "look at it again on the Bench and plan again"}
		}
	}
	return nil
}

// compose lays the plan over the disk and checks the result as if it were there.
func (p *Plan) compose(ctx context.Context, d *Draft) error {
	var err error
	if p.planned, err = disk.NewOverlay(p.device, layered(p.Steps), p.device.Size()); err != nil {
		return fmt.Errorf("the plan contradicts itself and isn't carried out: %w", err)
	}
	t, err := table.Read(p.planned, p.planned.Size(), p.planned.SectorSize())
	if err != nil {
		return err
	}
	if why := t.Complaint(d.Kind, len(d.Parts), p.planned.Size()); why != "" {
		return fmt.Errorf("the planned table would not be sound (%s); nothing was written", why)
	}
	for i := range d.Parts {
		part := &d.Parts[i]
		if part.Form == nil && (part.Old != nil || part.Raw != nil) {
			continue
		}
		if part.Form == nil {
			if v, _ := families.Identify(ctx, disk.Section(p.planned, part.Span.Start, part.Span.Len()),
				part.Span.Len(),
				p.planned.SectorSize()); v != nil {
				p.Notes = append(p.Notes,
					fmt.Sprintf("part %d isn't formatted, and an older %s is recognised in its place", part.Number,
						v.Info().Kind))
			}
			continue
		}
		c, err := families.Examine(ctx, disk.Section(p.planned, part.Span.Start, part.Span.Len()), part.Span.Len(),
			p.planned.SectorSize())
		if err != nil {
			return err
		}
		if c.Info.Kind != part.Form.Kind || !c.Maps {
			return fmt.Errorf("the planned %s on part %d would not be sound (%s); nothing was written", part.Form.Kind,
				part.Number, c.Why)
		}
	}
	return nil
}

// layered are all patches of the steps, where later ones win over earlier ones.
func layered(steps []Step) []disk.Patch {
	var all []disk.Patch
	for _, s := range steps {
		all = disk.Over(s.Patches, all)
	}
	return all
}

// Planned is the disk as it will be.
func (p *Plan) Planned() disk.Mapped { return p.planned }

// Survey looks at the planned disk as if it were there.
func (p *Plan) Survey(ctx context.Context) (*survey.Survey, error) {
	return survey.Of(ctx, p.planned, nil)
}

// Bytes is how much the plan writes.
func (p *Plan) Bytes() int64 {
	n := int64(0)
	for _, s := range p.Steps {
		n += s.Bytes()
	}
	return n
}

// firmwareReads says whether a machine's firmware reads what would be made.
func firmwareReads(kind string) bool {
	m, err := families.MakerOf(kind)
	return err == nil && m.Firmware
}
