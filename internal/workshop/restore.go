package workshop

import (
	"context"
	"encoding/hex"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"github.com/zeebo/blake3"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/job"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/restore"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// Origin is a disk that is put onto another one: a disk of a twin, or one that is attached.
type Origin struct {
	Twin *shelf.Twin
	Disk int // which of the twin's
	// Bench is the attached disk; nil for a twin's.
	Bench *bench.Disk
	// Unlocked has its unlocked volumes written without their encryption.
	Unlocked bool
}

// Describe says what is on it.
func (o Origin) Describe() *shelf.TwinDisk {
	if o.Bench != nil {
		return capture.Describe(o.Bench.Survey)
	}
	return &o.Twin.Disks[o.Disk]
}

// Title names it for people.
func (o Origin) Title() string {
	if o.Bench != nil {
		return disk.Sticker(o.Bench.Identity)
	}
	return o.Twin.Machine
}

// words say where it comes from, for the last page.
func (o Origin) words() []string {
	if o.Bench != nil {
		return []string{disk.Sticker(o.Bench.Identity), "at " + o.Bench.Path + ", as it is now"}
	}
	return []string{o.Twin.Machine + ", as it was on " + units.Moment(o.Twin.Taken),
		disk.Sticker(o.Twin.Disks[o.Disk].Identity)}
}

// open gives the disk with its pieces, and a name that changes when its contents do, as far as can be told without
// reading them.
func (o Origin) open(ctx context.Context, w *room) (disk.Mapped, string, error) {
	if o.Bench != nil {
		s := o.Bench.Survey
		if s == nil {
			return nil, "", fmt.Errorf("%s can't be read: %s", o.Bench.Path, o.Bench.Words())
		}
		h := blake3.New()
		fmt.Fprintln(h, o.Bench.Identity.Key())
		head := make([]byte, 64<<10)
		for _, a := range s.Areas {
			b := head[:min(int64(len(head)), a.Span.Len())]
			if err := disk.ReadFull(s.Device, b, a.Span.Start); err == nil {
				h.Write(b)
			}
			fmt.Fprintln(h, a.Span, a.Content.Used)
		}
		return s.Mapped(), "disk " + hex.EncodeToString(h.Sum(nil)[:16]), nil
	}
	if w.shelf() == nil {
		return nil, "", ErrNoShelf
	}
	d, err := w.shelf().OpenDisk(ctx, o.Twin, o.Disk)
	return d, fmt.Sprintf("twin %s %d", o.Twin.ID, o.Disk), err
}

// Pair is a disk and the target that it goes onto, with the plan for it.
type Pair struct {
	Origin
	Target *bench.Disk
	Plan   *restore.Restore
}

// PlanRestore plans to put a disk onto a probed target, as it is wished. Where an earlier run of the same plan was
// cut off the plan goes on from there. doing hears what the planning is busy with; it may be nil.
func (w *restoring) PlanRestore(ctx context.Context, o Origin, target *bench.Disk, wish plan.Wish,
	doing func(string)) (*Pair, error) {
	return w.PlanBeside(ctx, nil, o, target, wish, doing)
}

// PlanBeside is PlanRestore in one piece of work with pairs that are planned already: what two targets of one disk of
// a twin have in common is worked out once; not where volumes are written unlocked, since keys may have come meanwhile.
func (w *restoring) PlanBeside(ctx context.Context, pairs []*Pair, o Origin, target *bench.Disk, wish plan.Wish,
	doing func(string)) (*Pair, error) {
	if target == nil || target.Device == nil {
		_, err := o.order(ctx, w.room, disk.Identity{})
		if err == nil {
			err = fmt.Errorf("%s can't be written: %s", target.Path, target.Words())
		}
		return nil, err
	}
	o.Unlocked = o.Unlocked || wish.Unlocked
	order, err := o.order(ctx, w.room, target.Identity)
	if err != nil {
		return nil, err
	}
	order.Wish, order.Doing = wish, doing
	for _, p := range pairs {
		if p.Twin != nil && o.Twin != nil && p.Twin.ID == o.Twin.ID && p.Disk == o.Disk && !o.Unlocked {
			order.Like = append(order.Like, p.Plan.Plan)
		}
	}
	return w.planOrder(ctx, o, target, order)
}

// order is a disk's order without a wish.
func (o Origin) order(ctx context.Context, w *room, target disk.Identity) (order plan.Order, err error) {
	src, name, err := o.open(ctx, w)
	if err == nil && o.Unlocked {
		name += " unlocked"
		src, err = survey.Reveal(ctx, src)
	}
	if err != nil {
		return order, err
	}
	order = plan.Order{Source: src, Target: target, Seed: seed(name, target), Made: o.when(), Origin: name}
	if o.Twin != nil {
		order.Missing = o.Describe().Missing
		order.Elsewhere = o.Twin.IdentitiesBeside(o.Disk)
		order.Earlier = func(ctx context.Context) (disk.Device, time.Time, error) { return o.earlier(ctx, w) }
	}
	return order, nil
}

func (w *restoring) planOrder(ctx context.Context, o Origin, target *bench.Disk, order plan.Order) (*Pair, error) {
	var reads []string
	if o.Bench != nil {
		reads = []string{o.Bench.Path}
	}
	guard := w.Guard(reads...)
	if err := guard.Check(target.Target()); err != nil {
		return nil, err
	}
	made, err := plan.Make(ctx, order)
	if err != nil {
		return nil, err
	}
	p, err := restore.New(made, target.Target(), guard)
	if err != nil {
		return nil, err
	}
	p.Lenient = o.Bench != nil
	if err := p.GoOn(w.noteOf(target.Identity), order.Origin); err != nil {
		return nil, err
	}
	return &Pair{o, target, p}, nil
}

// Together looks at all that is restored in one piece of work: where some disks get identities of their own, the
// others, which may name them, are planned again.
func (w *restoring) Together(ctx context.Context, pairs []*Pair) ([]*Pair, error) {
	out := slices.Clone(pairs)
	for i, p := range pairs {
		others := map[string]string{}
		for _, o := range pairs {
			if o.Twin != nil && o.Disk != p.Disk {
				maps.Copy(others, o.Plan.Renewed())
			}
		}
		if len(others) == 0 || p.Twin == nil {
			continue
		}
		order := p.Plan.Order
		order.Others, order.Like = others, []*plan.Plan{p.Plan.Plan}
		again, err := w.planOrder(ctx, p.Origin, p.Target, order)
		if err != nil {
			return nil, err
		}
		out[i] = again
	}
	return out, nil
}

// earlier opens a disk of a twin as it was at the machine's twin before; nil where there is none, or it can't be read.
func (o Origin) earlier(ctx context.Context, w *room) (disk.Device, time.Time, error) {
	twins, _ := w.shelf().Twins(ctx)
	var before *shelf.Twin
	at := 0
	for _, t := range twins {
		i := slices.IndexFunc(t.Disks, func(d shelf.TwinDisk) bool {
			return d.Identity.Key() == o.Describe().Identity.Key()
		})
		if i >= 0 && t.Machine == o.Twin.Machine && t.Taken.Before(o.Twin.Taken) &&
			(before == nil || t.Taken.After(before.Taken)) {
			before, at = t, i
		}
	}
	if before == nil {
		return nil, time.Time{}, nil
	}
	d, err := w.shelf().OpenDisk(ctx, before, at)
	if err != nil { // it takes nothing from the plan
		return nil, time.Time{}, ctx.Err()
	}
	return d, before.Taken, nil
}

// when is the time that what is made new carries: of a twin its date, so that the same plan makes the same.
func (o Origin) when() time.Time {
	if o.Twin != nil {
		return o.Twin.Taken
	}
	return time.Time{}
}

// seed is what identities of a target's own are made from: the same plan makes the same ones.
func seed(origin string, target disk.Identity) string { return origin + "\n" + target.Key() }

// CutOff says how far a restore onto a disk came that was cut off; false when there is none.
func (w *restoring) CutOff(id disk.Identity) (restore.Progress, bool) {
	return restore.CutOff(w.noteOf(id))
}

// noteOf is where it is written down how far a restore onto a target came.
func (w *restoring) noteOf(id disk.Identity) restore.Notes {
	sum := blake3.Sum256([]byte(id.Key()))
	return w.State.Note("restores/" + hex.EncodeToString(sum[:8]))
}

// runTitle names the writing of pairs.
func runTitle(pairs []*Pair) string {
	if pairs[0].Bench != nil {
		return "Copy of " + pairs[0].Bench.Identity.Model
	}
	return "Restore of " + pairs[0].Title()
}

// CheckPairs refuses targets of one piece of work that share bytes with each other, or with anything that it reads,
// before any of them is written.
func (w *restoring) CheckPairs(pairs []*Pair) error {
	for i, p := range pairs {
		g := w.Guard()
		for j, o := range pairs {
			if j != i {
				g.Others = append(g.Others, o.Target.Path)
			}
			if o.Bench != nil {
				g.Sources = append(g.Sources, o.Bench.Path)
			}
		}
		p.Plan.Guard = g
		if err := g.Check(p.Plan.Target); err != nil {
			return err
		}
	}
	return nil
}

// StartRestore writes the targets, one after another, and then, without being asked, reads each back; those of one disk
// of a twin at the same time. The result is valid once the run has ended well: the claims of all proofs together.
func (w *restoring) StartRestore(ctx context.Context, pairs []*Pair) (r *run.Run, proof func() *shelf.Proof) {
	var result *shelf.Proof
	names, phases, expected := stepsOf(pairs)
	r = run.Start(ctx, runTitle(pairs), phases, expected, func(rc *run.Context) error {
		if err := w.CheckPairs(pairs); err != nil {
			return err
		}
		k := pairsWork(pairs)
		if k.Sort == job.Copy {
			k.Machine = w.machineOf(rc, pairs[0].Bench)
		}
		return w.onRecord(rc, k, func() (err error) {
			end, err := w.attend(rc, read(pairs))
			if err != nil {
				return err
			}
			defer end()
			if OneSource(pairs) {
				result, err = w.writeMany(rc, pairs)
				return err
			}
			for i, p := range pairs {
				if result, err = w.writeNext(rc.Named(names[i]), p, result, names[i]); err != nil {
					return err
				}
			}
			return nil
		}, func(r *job.Result) { claimed(result, r) })
	})
	return r, func() *shelf.Proof { return result }
}

// stepsOf are how the pairs are named in front of phases, the phases, and how long each will probably take.
func stepsOf(pairs []*Pair) (names, phases []string, expected run.Expected) {
	if OneSource(pairs) {
		return nil, []string{manyPhase}, run.Expected{2 * pairs[0].Plan.Estimate()}
	}
	names = make([]string, len(pairs))
	for i, p := range pairs {
		if len(pairs) > 1 {
			names[i] = fmt.Sprintf("disk %d: ", p.Disk+1)
		}
		writing := p.Plan.Phases()
		for _, s := range append(slices.Clone(writing), prove.Phases...) {
			phases = append(phases, names[i]+s)
			expected = append(expected, 0)
		}
		first := len(expected) - len(writing) - len(prove.Phases)
		expected[first], expected[first+len(writing)] = p.Plan.Estimate(), p.Plan.Estimate() // it is read back as fast
	}
	return names, phases, expected
}

// read are the attached disks that are read for pairs.
func read(pairs []*Pair) []*bench.Disk {
	var out []*bench.Disk
	for _, p := range pairs {
		if p.Bench != nil {
			out = append(out, p.Bench)
		}
	}
	return out
}

// writeNext writes one of several targets, and joins its proof to those of the ones before.
func (w *restoring) writeNext(rc *run.Context, p *Pair, before *shelf.Proof, name string) (*shelf.Proof, error) {
	slog.Info("writes", "from", p.Title(), "target", disk.Sticker(p.Target.Identity), "path", p.Target.Path)
	one, err := w.write(rc, p)
	if err != nil {
		return before, err
	}
	if p.Twin == nil {
		return prove.Join(before, one, name), nil
	}
	one.Twin = p.Twin.ID
	return prove.Join(before, one, name), w.shelf().SaveProof(rc, one)
}

// write writes one target and proves it.
func (w *restoring) write(rc *run.Context, p *Pair) (*shelf.Proof, error) {
	dev, err := disk.Open(p.Plan.Target.Path, p.Plan.Target.Identity)
	if err != nil {
		return nil, err
	}
	defer dev.Close()
	early := prove.Begin(rc, p.Describe(), p.Plan.Plan, dev)
	defer early.Stop()
	if p.followed() {
		p.Plan.Follow, p.Plan.Keep = early.Wrote, p.keeps()
	}
	if err := p.Plan.Run(rc); err != nil {
		return nil, err
	}
	if p.Plan.TargetFailed() {
		early.Doubt()
	}
	proof, err := early.Target(rc, Tool())
	if err != nil {
		return nil, err
	}
	if n := p.Plan.Missing().Total(); n > 0 {
		proof.Claims = append(proof.Claims,
			shelf.Claim{Topic: shelf.TopicContents, About: "source", Says: "all of the source could be read",
				Evidence: fmt.Sprintf("%s could not be read; zeros are there instead, first at byte %d of the target",
					units.Exact(n), p.Plan.Missing().Bounds().Start)})
	}
	return proof, nil
}

// followed says whether the target is read back while it is written: a rotating disk would go to and fro between the
// two, and a disk that is copied directly would be read at two places.
func (p *Pair) followed() bool { return p.Bench == nil && !p.Target.Rotational }

// keeps is where the target is left as it is: the parts that weren't captured.
func (p *Pair) keeps() (out span.Set) {
	left := map[int]bool{}
	for _, r := range p.Describe().Parts() {
		left[r.Part] = !r.Captured
	}
	for _, x := range p.Plan.Layout.Parts {
		if left[x.Part.Number] {
			out.Add(x.To)
		}
	}
	return out
}

// StartProofTarget proves a probed disk against what it was made from.
func (w *restoring) StartProofTarget(ctx context.Context, o Origin,
	target *bench.Disk) (*run.Run, func() *shelf.Proof, error) {
	if target.Device == nil {
		return nil, nil, fmt.Errorf("%s can't be read: %s", target.Path, target.Words())
	}
	order, err := o.order(ctx, w.room, target.Identity)
	if err != nil {
		return nil, nil, err
	}
	p, err := plan.Retrace(ctx, order, target.Device)
	if err != nil {
		return nil, nil, err
	}
	if err := prove.Resembles(ctx, p.Disk, target.Device); err != nil {
		return nil, nil, err
	}
	var result *shelf.Proof
	title := "Proof of " + disk.Sticker(target.Identity)
	r := run.Start(ctx, title, prove.Phases, nil, func(rc *run.Context) (err error) {
		k := job.Work{Sort: job.Prove, Title: title, From: []job.Disk{onBench(target)}}
		if o.Twin != nil {
			k.Machine, k.Twin, k.Dated = o.Twin.Machine, o.Twin.ID, units.Moment(o.Twin.Taken)
		}
		return w.onRecord(rc, k, func() error {
			if result, err = prove.Target(rc, o.Describe(), p, target.Device, Tool()); err != nil || o.Twin == nil {
				return err
			}
			result.Twin = o.Twin.ID
			return w.shelf().SaveProof(rc, result)
		}, func(r *job.Result) { claimed(result, r) })
	})
	return r, func() *shelf.Proof { return result }, nil
}
