package workshop

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/job"
	"twinshelf/internal/mounts"
	"twinshelf/internal/ready"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/sizes"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Keepsakes is where what was overwritten is kept.
func (w *readying) Keepsakes() ready.Keepsakes {
	return ready.Keepsakes{Dir: filepath.Join(w.State.Folder(), "keepsakes")}
}

// ErrNotReady means that a disk couldn't be looked at.
var ErrNotReady = errors.New("can't be made ready")

func looked(d *bench.Disk) error {
	if d.Survey == nil || d.Device == nil {
		return fmt.Errorf("%s %w: %s", d.Path, ErrNotReady, d.Words())
	}
	return nil
}

// DraftAnew drafts a layout that keeps nothing of a probed disk.
func DraftAnew(d *bench.Disk, kind table.Kind) (*ready.Draft, error) {
	if err := looked(d); err != nil {
		return nil, err
	}
	return ready.Anew(d.Survey, d.Optimal, kind), nil
}

// DraftChange drafts a change of what is on a probed disk.
func DraftChange(d *bench.Disk) (*ready.Draft, error) {
	if err := looked(d); err != nil {
		return nil, err
	}
	return ready.Change(d.Survey, d.Optimal)
}

// PlanReady works a draft out, after asking the guard.
func (w *readying) PlanReady(ctx context.Context, draft *ready.Draft, d *bench.Disk) (*ready.Plan, error) {
	if err := w.Guard().Check(d.Target()); err != nil {
		return nil, err
	}
	return draft.Plan(ctx, d.Device, d.Target())
}

// StartReady carries a plan out.
func (w *readying) StartReady(ctx context.Context, p *ready.Plan) *run.Run {
	return run.Start(ctx, "Making "+disk.Sticker(p.Target.Identity)+" ready", p.Phases(), p.Expected(),
		func(rc *run.Context) error {
			return w.onRecord(rc, readyWork(rc, p), func() error {
				_, err := p.Run(rc, w.Guard(), w.Keepsakes())
				return err
			}, func(*job.Result) {})
		})
}

// MediumOf is what the choice of an erasing depends on.
func MediumOf(d *bench.Disk) ready.Medium {
	return ready.Medium{Rotational: d.Rotational, Discards: d.Discards, Image: d.Image}
}

// PlanErase plans the erasing of a probed disk.
func (w *readying) PlanErase(ctx context.Context, d *bench.Disk, way ready.Way) (*ready.Erase, error) {
	if err := looked(d); err != nil {
		return nil, err
	}
	if err := w.Guard().Check(d.Target()); err != nil {
		return nil, err
	}
	var free int64
	var st unix.Statfs_t
	if d.Image && unix.Statfs(d.Path, &st) == nil {
		free = int64(st.Bavail)*st.Bsize + allocated(d.Path)
	}
	return ready.NewErase(ctx, d.Survey, d.Target(), way, MediumOf(d), free)
}

// allocated is the room that a file takes now, in bytes.
func allocated(path string) int64 {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		return 0
	}
	return st.Blocks * 512
}

// StartErase erases.
func (w *readying) StartErase(ctx context.Context, e *ready.Erase) *run.Run {
	return run.Start(ctx, "Erasing "+disk.Sticker(e.Target.Identity), e.Phases(), e.Expected(),
		func(rc *run.Context) error {
			k := job.Work{Sort: job.Erase, Title: "Erasing " + disk.Sticker(e.Target.Identity), Lost: e.Loses,
				Way: string(e.Way), Does: []string{e.Way.Title(), e.Way.About(e.Medium)},
				Before: []job.Disk{{Identity: e.Target.Identity}}, Confirmed: []string{confirmed(e.Target.Identity)}}
			return w.onRecord(rc, k, func() error {
				_, err := e.Run(rc, w.Guard(), w.Keepsakes())
				return err
			}, func(*job.Result) {})
		})
}

// PlanSurface plans to read every sector of a disk, by which nothing on it is changed. The drive needn't have been
// looked at; whoever gets the plan runs it or closes it.
func (w *readying) PlanSurface(d *bench.Disk) (*Surface, error) {
	dev, err := disk.OpenDirect(d.Path, d.Identity)
	if err != nil {
		return nil, err
	}
	return &Surface{health: healthWords(d.Health), dev: dev, Surface: &ready.Surface{Device: dev,
		Medium: MediumOf(d), Physical: d.Physical,
		Drive: w.attendance(d, disk.OpenDirect)}}, nil
}

// Surface is a check that hasn't begun, with the drive that it has open.
type Surface struct {
	*ready.Surface
	dev    *disk.File
	health string // what the drive says of itself
}

// Close closes the drive.
func (s *Surface) Close() { _ = s.dev.Close() }

// StartSurface begins a check, and closes its drive at the end.
func (w *readying) StartSurface(ctx context.Context, s *Surface) *run.Run {
	title := "Check of " + disk.Sticker(s.Device.Identity())
	return run.Start(ctx, title, ready.SurfacePhases, s.Expected(), func(rc *run.Context) error {
		defer s.Close()
		s.Drive.Waits = rc.Waits
		k := job.Work{Sort: job.Check, Title: title, Does: []string{"every sector is read; nothing is written"},
			From: []job.Disk{{Identity: s.Device.Identity(), Health: s.health}}}
		return w.onRecord(rc, k, func() error { return s.Run(rc) }, func(*job.Result) {})
	})
}

// PlanReturn finds the keepsake of a disk with a name; the newest when name is empty.
func (w *readying) PlanReturn(d *bench.Disk, name string) (ready.Return, error) {
	if err := looked(d); err != nil {
		return ready.Return{}, err
	}
	all, err := w.Keepsakes().List(d.Identity)
	if err != nil {
		return ready.Return{}, err
	}
	if len(all) == 0 {
		return ready.Return{},
			fmt.Errorf("there is no keepsake of %s: none of its changes was made here", disk.Sticker(d.Identity))
	}
	i := 0
	if name != "" {
		i = slices.IndexFunc(all, func(k *ready.Keepsake) bool { return k.Name() == name })
	}
	if i < 0 {
		return ready.Return{}, fmt.Errorf("there is no keepsake %s of %s", name, disk.Sticker(d.Identity))
	}
	r := ready.Return{Keepsake: all[i], Target: d.Target()}
	return r, w.Guard().Check(r.Target)
}

// StartReturn puts a keepsake back.
func (w *readying) StartReturn(ctx context.Context, r ready.Return) *run.Run {
	return run.Start(ctx, "Putting back what was on "+disk.Sticker(r.Target.Identity), ready.PutBackPhases, nil,
		func(rc *run.Context) error {
			k := job.Work{Sort: job.PutBack, Title: "Putting back what was on " + disk.Sticker(r.Target.Identity),
				Does:   []string{"what was there before " + units.Moment(r.Keepsake.Taken) + " is put back"},
				Before: []job.Disk{{Identity: r.Target.Identity}}}
			return w.onRecord(rc, k, func() error { return r.Run(rc, w.Guard()) }, func(*job.Result) {})
		})
}

// UsedOn is how many bytes were in use on a machine in its newest twin, whatever the case of its name.
func UsedOn(twins []*shelf.Twin, machine string) (int64, error) {
	t, err := newestOf(twins, machine)
	if err != nil {
		return 0, err
	}
	return t.Used, nil
}

// newestOf finds the newest twin of a machine by its name or the only beginning of one.
func newestOf(twins []*shelf.Twin, machine string) (*shelf.Twin, error) {
	plain := func(s string) string {
		return strings.NewReplacer("-", " ", "_", " ", "’", "'").Replace(strings.ToLower(strings.TrimSpace(s)))
	}
	var best *shelf.Twin
	for _, exact := range []bool{true, false} {
		for _, t := range twins {
			hit := plain(t.Machine) == plain(machine)
			if !exact {
				hit = plain(machine) != "" && strings.HasPrefix(plain(t.Machine), plain(machine))
			}
			if !hit || best != nil && best.Machine == t.Machine && !t.Taken.After(best.Taken) {
				continue
			}
			if best != nil && best.Machine != t.Machine {
				return nil, fmt.Errorf("%q may be %s or %s: write the whole name", machine, best.Machine, t.Machine)
			}
			best = t
		}
		if best != nil {
			return best, nil
		}
	}
	known := Machines(twins)
	if len(known) == 0 {
		return nil, fmt.Errorf("nothing is known about what is used on %q: open a shelf with a twin of it", machine)
	}
	return nil, fmt.Errorf("the shelf holds no twin of %q; it has %s", machine, strings.Join(known, ", "))
}

// Machines are the names of the machines on the shelf.
func Machines(twins []*shelf.Twin) []string {
	var out []string
	for _, t := range twins {
		if !slices.Contains(out, t.Machine) {
			out = append(out, t.Machine)
		}
	}
	slices.Sort(out)
	return out
}

// Need is what a shelf for some machines takes, and how that was worked out.
type Need struct {
	Bytes int64    `json:"bytes"`
	Words []string `json:"words"`
}

const (
	// change is how much of what is used a date brings when nothing is known: one part in change.
	change = 20
	// spare is added to what was worked out: one part in spare.
	spare = 10
)

// ShelfNeed works out the room for a number of dates of some machines: what is used now, as if
// nothing could be packed, and for each further date what dates brought so far.
func ShelfNeed(twins []*shelf.Twin, machines []string, dates int) (Need, error) {
	if dates < 1 || dates > 100_000 {
		return Need{}, fmt.Errorf("room for %d dates can't be worked out; give a number from 1 on", dates)
	}
	if len(machines) == 0 {
		return Need{}, errors.New("for which machines? Choose at least one")
	}
	var n Need
	for _, m := range machines {
		newest, err := newestOf(twins, m)
		if err != nil {
			return Need{}, err
		}
		var added, later int64
		for _, t := range twins {
			if t.Machine == newest.Machine {
				added, later = added+t.Added, later+1
			}
		}
		each, how := newest.Used/change, "assumed"
		if first := oldest(twins, newest.Machine); later > 1 {
			each, how = (added-first.Added)/(later-1), "as so far"
		}
		bytes := newest.Used + int64(dates-1)*each
		n.Bytes += bytes
		n.Words = append(n.Words, fmt.Sprintf("%s: %s used, %s for each further date (%s), %s in all", newest.Machine,
			units.Bytes(newest.Used), units.Bytes(each), how, units.Bytes(bytes)))
	}
	n.Bytes += n.Bytes/spare + 64*units.MiB
	n.Words = append(n.Words, "and a tenth to spare: "+sizes.Words(n.Bytes))
	return n, nil
}

func oldest(twins []*shelf.Twin, machine string) *shelf.Twin {
	var best *shelf.Twin
	for _, t := range twins {
		if t.Machine == machine && (best == nil || t.Taken.Before(best.Taken)) {
			best = t
		}
	}
	return best
}

// ShapeOf is the layout of disk i of a twin.
func ShapeOf(t *shelf.Twin, i int) ready.Shape {
	d := &t.Disks[i]
	s := ready.Shape{Machine: t.Machine, Kind: d.Table.Kind}
	for _, r := range d.Parts() {
		p := ready.ShapePart{FileSystem: families.All().Today(r.Kind), Label: r.Label, Role: table.Role(r.Role),
			Used: r.Used}
		p.Part = table.Part{Number: r.Part, Span: r.Span, Type: r.Type, Name: r.Name}
		for _, q := range d.Table.Parts {
			if q.Number == r.Part {
				p.Part = q
			}
		}
		s.Parts = append(s.Parts, p)
	}
	return s
}

// MountBase is the folder in which parts are mounted.
const MountBase = "/run/twinshelf"

// Mount mounts a part of a probed disk read-only and says where.
func Mount(d *bench.Disk, number int) (string, error) {
	return mountBy(mounts.ReadOnly, d, number)
}

// MountWritable mounts a part of a drive so that a shelf can be made there. What belongs to a machine is refused: by
// mounting alone a system changes it.
func (w *readying) MountWritable(ctx context.Context, d *bench.Disk, number int) (string, error) {
	if err := w.Guard().Check(d.Target()); err != nil {
		return "", err
	}
	if s := w.shelf(); s != nil {
		twins, problems := s.Twins(ctx)
		if len(problems) > 0 {
			return "", &disk.Refusal{Disk: disk.Sticker(d.Identity), Reason: "whether it was captured as a disk of " +
				"a machine can't be told, as " + problems[0].Error(),
				Remedy: "let \"twinshelf shelf check --mend\" mend the shelf, or mount the part by hand"}
		}
		for _, t := range twins {
			if slices.ContainsFunc(t.Disks, func(x shelf.TwinDisk) bool {
				return x.Identity.Key() == d.Identity.Key()
			}) {
				return "",
					&disk.Refusal{Disk: disk.Sticker(d.Identity), Reason: "it was captured as a disk of " + t.Machine +
						", and mounting it writable would change it", Remedy: "mount it read-only"}
			}
		}
	}
	return mountBy(mounts.Writable, d, number)
}

func mountBy(mount func(string, mounts.Part) (string, error), d *bench.Disk, number int) (string, error) {
	if err := looked(d); err != nil {
		return "", err
	}
	for _, a := range d.Survey.Parts() {
		if a.Part.Number == number {
			return mount(MountBase,
				mounts.Part{Disk: d.Path, Span: a.Span, Kind: a.Content.Info.Kind,
					Drivers: fsys.DriversOf(a.Content.Volume),
					Label:   a.Content.Info.Label, Image: d.Image})
		}
	}
	return "", fmt.Errorf("there is no part %d on %s", number, disk.Sticker(d.Identity))
}

// Unmount unmounts everything of a disk that is mounted, but nothing that this system runs from.
func Unmount(d *bench.Disk) ([]string, error) {
	var done []string
	for _, u := range d.Uses {
		switch {
		case u.System:
			return done, fmt.Errorf("%s stays mounted: this system runs from it", u.Point)
		case u.Point != "":
			if err := mounts.Unmount(MountBase, u.Point); err != nil {
				return done, err
			}
			done = append(done, u.Point)
		}
	}
	if len(done) == 0 {
		return nil, fmt.Errorf("nothing of %s is mounted", disk.Sticker(d.Identity))
	}
	return done, nil
}
