package workshop

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/job"
	"twinshelf/internal/rescue"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/table"
)

// rescues get what can be got from failing drives.
type rescues struct{ *room }

// PlanRescue plans a sitting with the drives of a machine, which needn't have been looked at. Whoever gets the plan
// closes it.
func (w *rescues) PlanRescue(machine string, disks []*bench.Disk, leaveOut Parts) (*Rescue, error) {
	if w.shelf() == nil {
		return nil, ErrNoShelf
	}
	if err := w.checkClock(); err != nil {
		return nil, err
	}
	p := &Rescue{Plan: &rescue.Plan{Shelf: w.shelf(), Machine: strings.TrimSpace(machine), Tool: Tool()}}
	for i, d := range disks {
		if slices.ContainsFunc(disks[:i], func(o *bench.Disk) bool {
			return o == d || o.Path == d.Path || w.Bench.Host.Overlap(o.Path, d.Path)
		}) {
			p.Close()
			return nil, fmt.Errorf("%s is named twice, or shares bytes with another: name each disk once", d.Path)
		}
		dev, err := disk.OpenDirect(d.Path, d.Identity)
		if err != nil {
			p.Close()
			return nil, err
		}
		if d.Image && d.Identity.Sector == 0 { // only the table on it tells
			dev.SetSectorSize(table.DetectSector(dev, dev.Size()))
		}
		p.devices = append(p.devices, dev)
		p.Sources = append(p.Sources, rescue.Source{Device: dev, Health: d.Health, LeaveOut: leaveOut[d],
			Physical: d.Physical, InUse: d.InUse(), Drive: w.attendance(d, disk.OpenDirect)})
	}
	return p, nil
}

// Rescue is a sitting that hasn't begun, with the drives that it has open.
type Rescue struct {
	*rescue.Plan
	devices []*disk.File
}

// FillFromDisk has what can't be read taken from another drive, where that is proven to have the same.
func (p *Rescue) FillFromDisk(d *bench.Disk) error {
	dev, err := disk.Open(d.Path, d.Identity)
	if err != nil {
		return err
	}
	dev.SetPatience(bench.Hanging)
	p.devices = append(p.devices, dev)
	p.FillFrom = append(p.FillFrom, dev)
	return nil
}

// Close closes the drives.
func (p *Rescue) Close() {
	for _, d := range p.devices {
		_ = d.Close()
	}
}

// Identities are those of the drives.
func (p *Rescue) Identities() []disk.Identity {
	var out []disk.Identity
	for _, s := range p.Sources {
		out = append(out, s.Device.Identity())
	}
	return out
}

// rescueWork is a sitting for the record.
func rescueWork(p *Rescue) job.Work {
	k := job.Work{Sort: job.Capture, Title: "Rescue of " + p.Machine, Machine: p.Machine}
	for _, s := range p.Sources {
		k.From = append(k.From, job.Disk{Identity: s.Device.Identity(), Health: healthWords(s.Health)})
	}
	return k
}

// StartRescue begins a sitting, and closes its drives at the end. result is the twin, also of a sitting that was cut
// short; nil where nothing is on the shelf.
func (w *Workshop) StartRescue(ctx context.Context, p *Rescue) (r *run.Run, result func() *shelf.Twin) {
	var t *shelf.Twin
	r = run.Start(ctx, "Rescue of "+p.Machine, append(slices.Clone(rescue.Phases), phaseNames), p.Expected(ctx),
		func(rc *run.Context) error {
			defer p.Close()
			for i := range p.Sources {
				p.Sources[i].Drive.Waits = rc.Waits
			}
			return w.onRecord(rc, rescueWork(p), func() (err error) {
				if t, err = p.Run(rc); t == nil {
					return err
				}
				if failed := rescue.Supersede(context.WithoutCancel(rc), p.Shelf, t); failed != nil {
					rc.Note("the twins of earlier sittings stay: %v", failed)
				}
				if err == nil {
					rc.Phase(phaseNames, 0)
					w.listNames(rc, nil, t)
				}
				return err
			}, func(r *job.Result) { captured(context.WithoutCancel(rc), p.Shelf, t, r) })
		})
	return r, func() *shelf.Twin { return t }
}

// RescueStopped says what state stopping a rescue leaves.
const RescueStopped = "Stopping keeps what was read: it is on the shelf as a twin, and another sitting goes on from it."
