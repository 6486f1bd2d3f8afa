package workshop

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// manyPhase is the phase in which several targets of one disk are written at the same time.
const manyPhase = "Write the targets and read them back"

// OneSource says whether all pairs put one disk of a twin onto their targets: those are written at the same time.
func OneSource(pairs []*Pair) bool {
	for _, p := range pairs {
		if p.Twin == nil || p.Twin.ID != pairs[0].Twin.ID || p.Disk != pairs[0].Disk {
			return false
		}
	}
	return len(pairs) > 1
}

// TargetsFailed are the targets of one disk that weren't written, or not proven; the others were.
type TargetsFailed struct {
	Of     int // how many there were
	Failed []error
}

func (e *TargetsFailed) Error() string {
	others := ""
	if len(e.Failed) < e.Of {
		others = "; the others are written and read back"
	}
	return fmt.Sprintf("%d of %d targets failed%s: %v", len(e.Failed), e.Of, others, errors.Join(e.Failed...))
}

// Unwrap gives what went wrong with each.
func (e *TargetsFailed) Unwrap() []error { return e.Failed }

// writeMany writes the targets of one disk at the same time; what they have in common is fetched once. The proofs of
// those that were written are joined, whatever became of the others.
func (w *restoring) writeMany(rc *run.Context, pairs []*Pair) (proof *shelf.Proof, err error) {
	sharing := shelf.NewSharing(func() bool { return rc.Snapshot().State == run.Paused })
	proofs := make([]*shelf.Proof, len(pairs))
	var parts []run.Part
	var total int64
	for i, p := range pairs {
		leave := func() {}
		if d, ok := p.Plan.Order.Source.(*shelf.Disk); ok {
			leave = d.Share(sharing)
		}
		p.Plan.Beside = len(pairs) - 1
		write, _ := p.Plan.Bytes()
		total += 2 * write
		parts = append(parts, run.Part{Name: nameOf(p), Title: "Restore onto " + disk.Sticker(p.Target.Identity),
			Phases: slices.Concat(p.Plan.Phases(), prove.Phases), Come: p.come,
			Work: func(rc *run.Context) (err error) {
				defer leave()
				proofs[i], err = w.writeNext(rc, p, nil, nameOf(p))
				return err
			}})
	}
	rc.Phase(manyPhase, total)
	errs := rc.Parts(parts, func(i int, s run.Snapshot) string { return nameOf(pairs[i]) + pairs[i].stands(s) })
	failed := &TargetsFailed{Of: len(pairs)}
	for i, p := range pairs {
		if errs[i] != nil {
			failed.Failed = append(failed.Failed, fmt.Errorf("%s%w", nameOf(p), errs[i]))
		} else {
			proof = prove.Join(proof, proofs[i], "")
		}
	}
	if n := sharing.LeftBehind(); n > 0 {
		rc.Note("%s too slow for the others, which didn't wait any longer: the rest was fetched once more",
			units.Plural(n, "target")+map[bool]string{true: " was", false: " were"}[n == 1])
	}
	switch {
	case rc.Err() != nil:
		return proof, rc.Err()
	case len(failed.Failed) > 0:
		return proof, failed
	}
	return proof, nil
}

// SummarizeMany says what the writing of several targets of one disk will do, in one summary: a line for each target.
func SummarizeMany(pairs []*Pair) Summary {
	each := SummarizeRestore(pairs)
	s := each[0]
	s.Head = fmt.Sprintf("everything on %d disks will be overwritten.", len(pairs))
	s.To, s.Lost = nil, nil
	s.Steps = together(pairs, func(i int) []string { return each[i].Steps })
	s.Doubts = together(pairs, func(i int) []string { return each[i].Doubts })
	for i, one := range each {
		s.To = append(s.To, strings.Join(one.To, ", "))
		for _, l := range one.Lost {
			s.Lost = append(s.Lost, At(pairs[i].Target)+l)
		}
	}
	s.Mild = len(s.Lost) == 0
	return s
}

// together are the lines of all targets: once where they are the same for each, otherwise with the target's name.
func together(pairs []*Pair, of func(i int) []string) (out []string) {
	same := true
	for i := range pairs {
		same = same && slices.Equal(of(i), of(0))
	}
	if same {
		return of(0)
	}
	for i, p := range pairs {
		for _, l := range of(i) {
			out = append(out, At(p.Target)+l)
		}
	}
	return out
}

// At is how a target is named in front of what is said of it before what stands on it was typed.
func At(d *bench.Disk) string { return fmt.Sprintf("%s at %s: ", d.Identity.Model, d.Path) }

// nameOf is how it is named afterwards.
func nameOf(p *Pair) string {
	tail, _ := Confirm(p.Target.Identity)
	if p.Target.Identity.Serial != "" {
		tail = "…" + tail
	}
	return p.Target.Identity.Model + " " + tail + ": "
}

// come is how many bytes were dealt with of those that are written, and then read back.
func (p *Pair) come(s run.Snapshot) int64 {
	write, _ := p.Plan.Bytes()
	back := len(p.Plan.Phases()) + 1 // the phase in which it is read back, from 1
	switch {
	case s.PhaseNo > back, s.State == run.Done:
		return 2 * write
	case s.PhaseNo == back:
		return write + min(write, s.Done)
	case s.PhaseNo > 1:
		return write
	}
	return min(write, s.Done)
}

// stands says how far the writing of a target has come.
func (p *Pair) stands(s run.Snapshot) string {
	switch {
	case s.State == run.Done:
		return "written and read back"
	case s.State == run.Cancelled:
		return "cancelled"
	case s.State == run.Failed:
		return "failed: " + s.Err.Error()
	case s.Waits != "":
		return "waits: " + s.Waits
	case s.Total > 0:
		return fmt.Sprintf("%s, %s", s.Phase, units.Percent(s.Done, s.Total))
	}
	return s.Phase
}
