package workshop

import (
	"context"
	"fmt"
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/inside"
	"twinshelf/internal/job"
	"twinshelf/internal/ready"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// DisksOf are the disks of a twin, or the attached one, as they are drawn.
func DisksOf(o Origin) []job.Disk {
	if o.Bench != nil {
		return []job.Disk{onBench(o.Bench)}
	}
	var out []job.Disk
	for i := range o.Twin.Disks {
		out = append(out, inTwin(&o.Twin.Disks[i]))
	}
	return out
}

// onBench is an attached disk as it is now, for the record.
func onBench(d *bench.Disk) job.Disk {
	out := job.Disk{Identity: d.Identity, Words: d.Words()}
	if d.Survey != nil {
		out = surveyed(d.Identity, d.Survey, d.Words())
	}
	out.Health = healthWords(d.Health)
	for _, s := range d.Systems {
		out.Systems = append(out.Systems, strings.Join(s.Words(), ". "))
	}
	return out
}

// healthWords are what a drive says of itself, for the record; empty where it says nothing.
func healthWords(r *health.Report) string {
	if !r.Told() {
		return ""
	}
	return r.Words()
}

func surveyed(id disk.Identity, s *survey.Survey, words string) job.Disk {
	out := job.Disk{Identity: id, Table: tableOf(s.Table), Words: words}
	for _, a := range s.Parts() {
		out.Parts = append(out.Parts, areaPart(&a))
	}
	return out
}

func areaPart(a *survey.Area) job.Part {
	p := job.Part{Number: a.Part.Number, Title: a.Title(), FileSystem: a.Content.Info.Kind, Role: string(a.Role),
		Start: a.Span.Start, Size: a.Span.Len()}
	if a.Content.Maps {
		used := a.Content.Used
		p.Used = &used
	}
	return p
}

func tableOf(t *table.Table) string {
	if t == nil || t.Kind == table.None {
		return ""
	}
	return string(t.Kind)
}

// inTwin is a disk of a twin.
func inTwin(d *shelf.TwinDisk) job.Disk {
	out := job.Disk{Identity: d.Identity, Table: tableOf(d.Table), Words: units.Bytes(d.Used) + " used"}
	for _, r := range d.Parts() {
		p := job.Part{Number: r.Part, Title: r.Title(), FileSystem: r.Kind, Role: r.Role, Start: r.Span.Start,
			Size: r.Span.Len()}
		if r.Captured && r.Whole == "" {
			used := r.Used
			p.Used = &used
		}
		out.Parts = append(out.Parts, p)
	}
	return out
}

// planned is the target of a pair as it will be.
func planned(p *Pair) job.Disk {
	out := inTwin(p.Describe())
	out.Identity, out.Words = p.Target.Identity, ""
	parts := out.Parts
	out.Parts = nil
	for _, x := range p.Plan.Layout.Parts {
		for _, q := range parts {
			if q.Number == x.Part.Number && !x.To.Empty() {
				q.Start, q.Size = x.To.Start, x.To.Len()
				out.Parts = append(out.Parts, q)
			}
		}
	}
	if a := p.Plan.Added; a != nil {
		out.Parts = append(out.Parts, job.Part{Number: a.Part.Number, Title: a.Label + " (new)", FileSystem: a.Kind,
			Role: string(table.RoleData), Start: a.Part.Span.Start, Size: a.Part.Span.Len()})
	}
	return out
}

// captureWork is a capture for the record.
func captureWork(ctx context.Context, p *capture.Plan) job.Work {
	k := job.Work{Sort: job.Capture, Title: "Capture of " + p.Machine, Machine: p.Machine}
	for _, s := range p.Sources {
		words := units.Bytes(s.Survey.Used()) + " to capture"
		from := surveyed(s.Survey.Device.Identity(), s.Survey, words)
		from.Health = healthWords(s.Health)
		k.From = append(k.From, from)
		for _, a := range s.Survey.Parts() {
			if s.LeaveOut[a.Part.Number] {
				k.Warned = append(k.Warned, fmt.Sprintf("part %d (%s) is left out", a.Part.Number, a.Title()))
			}
		}
	}
	k.Warned = append(k.Warned, p.Warnings()...)
	for _, d := range p.Doubts(ctx) { // it was begun, so each was answered
		k.Answers = append(k.Answers, job.Answer{Asked: d.Says, Answer: "yes"})
	}
	return k
}

// confirmed says what was typed before a disk was written.
func confirmed(id disk.Identity) string {
	typed, what := Confirm(id)
	return typed + " was typed: " + what
}

// captured adds to the end of a capture what came of it.
func captured(ctx context.Context, s *shelf.Shelf, t *shelf.Twin, r *job.Result) {
	if t == nil {
		return
	}
	r.Twin, r.Used, r.Added, r.Unread = t.ID, t.Used, t.Added, t.Missing()
	for i := range t.Disks {
		where := t.Disks[i].Missing
		if where.Empty() || len(r.Hit) >= mostEntered {
			continue
		}
		dev, err := s.OpenDisk(ctx, t, i)
		if err != nil {
			continue
		}
		touched, err := inside.FilesIn(ctx, dev, where)
		if err != nil {
			continue
		}
		for _, f := range touched.Files[:min(len(touched.Files), mostEntered-len(r.Hit))] {
			r.Hit = append(r.Hit, fmt.Sprintf("part %d, %s: %s of it", f.Part, f.Name(), units.Bytes(f.Bytes)))
		}
	}
}

// pairsWork is a restore or a copy for the record, as its last page had it.
func pairsWork(pairs []*Pair) job.Work {
	k := job.Work{Sort: job.Restore, Title: runTitle(pairs)}
	if t := pairs[0].Twin; t != nil {
		k.Machine, k.Twin, k.Dated = t.Machine, t.ID, units.Moment(t.Taken)
	} else {
		k.Sort = job.Copy
	}
	if OneSource(pairs) {
		s := SummarizeMany(pairs)
		k.Lost, k.Does, k.Warned = s.Lost, s.Steps, s.Doubts
	}
	for i, s := range SummarizeRestore(pairs) {
		p := pairs[i]
		k.From = append(k.From, onBenchOrTwin(p.Origin))
		k.Before = append(k.Before, onBench(p.Target))
		k.After = append(k.After, planned(p))
		if !OneSource(pairs) {
			k.Lost = append(k.Lost, s.Lost...)
			k.Does = append(k.Does, s.Steps...)
			k.Warned = append(k.Warned, s.Doubts...)
		}
		k.Confirmed = append(k.Confirmed, confirmed(p.Target.Identity))
		for _, c := range p.Consents() {
			k.Answers = append(k.Answers, job.Answer{Asked: c + "; has the customer agreed?", Answer: "yes"})
		}
		if p.Plan.Fresh != nil {
			for _, asks := range p.Plan.Fresh.Asks {
				k.Answers = append(k.Answers, job.Answer{Asked: asks, Answer: "yes"})
			}
		}
	}
	for _, m := range MissingDisks(pairs) {
		k.Answers = append(k.Answers, job.Answer{Asked: m, Answer: "yes"})
	}
	return k
}

// machineOf is the machine that a disk belongs to by the twins of the open shelf; empty when none is of it.
func (w *restoring) machineOf(ctx context.Context, d *bench.Disk) string {
	s := w.shelf()
	if s == nil {
		return ""
	}
	twins, _ := s.Twins(ctx) // what can't be read is said where twins are listed
	return SuggestMachine(twins, []*bench.Disk{d})
}

func onBenchOrTwin(o Origin) job.Disk {
	if o.Bench != nil {
		return onBench(o.Bench)
	}
	return inTwin(&o.Twin.Disks[o.Disk])
}

// claimed adds the claims of a proof to the end of a work.
func claimed(p *shelf.Proof, r *job.Result) {
	if p == nil {
		return
	}
	for _, c := range p.Claims {
		r.Claims = append(r.Claims, job.Claim{About: c.About, Says: c.Says, Holds: c.Holds})
	}
}

// readyWork is a change of a layout for the record.
func readyWork(ctx context.Context, p *ready.Plan) job.Work {
	k := job.Work{Sort: job.Layout, Title: "Making " + disk.Sticker(p.Target.Identity) + " ready", Lost: p.Goes,
		Does: append([]string{}, p.Stays...), Confirmed: []string{confirmed(p.Target.Identity)}}
	before := job.Disk{Identity: p.Target.Identity}
	for _, a := range p.Before() {
		if a.Part != nil {
			before.Parts = append(before.Parts, areaPart(&a))
		}
	}
	if len(before.Parts) == 0 {
		before.Words = "no parts"
	}
	k.Before = []job.Disk{before}
	if s, err := p.Survey(ctx); err == nil {
		k.After = []job.Disk{surveyed(p.Target.Identity, s, "")}
	}
	for _, s := range p.Steps {
		k.Does = append(k.Does, s.Title)
	}
	return k
}
