package prove

import (
	"context"
	"math/rand/v2"

	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

const (
	// earlyStep is how much is written until it is flushed and read back, in bytes.
	earlyStep = 128 << 20
	// earlyEdge is what is left for the next time, in bytes: the kernel keeps a page that is being written, and the
	// largest one has 2 MiB.
	earlyEdge = 4 << 20
	// lookedAgain is how many pieces are read once more at the end.
	lookedAgain = 256
)

// Medium is a target whose bytes can be had from where they are kept.
type Medium interface {
	disk.Device
	// Sync returns once everything that was written is there.
	Sync() error
	// ForgetIn has the next reading of a stretch come from there.
	ForgetIn(span.Span)
}

// Early reads a target back while the rest of it is still being written: each stretch is flushed first, and dropped
// from the kernel's memory. What is as planned then isn't read a second time by the proof, but for samples; anything
// else is. Where nobody says what was written the proof reads everything.
type Early struct {
	source *shelf.TwinDisk
	plan   *plan.Plan
	target Medium
	cmp    *comparison
	step   int64 // see earlyStep
	wrote  chan span.Span
	stop   context.CancelFunc
	ended  chan struct{}

	// Only its goroutine touches what follows, until it has ended.
	good    span.Set
	samples []disk.Piece
	seen    int // pieces that samples were taken of
	buf     []byte
}

// Begin gets ready to read a target back; whoever began it calls Stop.
func Begin(ctx context.Context, source *shelf.TwinDisk, p *plan.Plan, target Medium) *Early {
	return begin(ctx, source, p, target, earlyStep)
}

func begin(ctx context.Context, source *shelf.TwinDisk, p *plan.Plan, target Medium, step int64) *Early {
	ctx, stop := context.WithCancel(ctx)
	e := &Early{source: source, plan: p, target: target, step: step, wrote: make(chan span.Span, 1), stop: stop,
		ended: make(chan struct{}),
		cmp:   &comparison{ctx: ctx, planned: p.Disk, target: target, used: newUsed(p.Disk, planned(source, p))}}
	go func() {
		defer close(e.ended)
		e.follow(ctx)
	}()
	return e
}

// Wrote says which stretch was written so far: it begins where it began before. Only one goroutine calls it.
func (e *Early) Wrote(written span.Span) {
	select {
	case <-e.wrote: // what was said before is out of date
	default:
	}
	e.wrote <- written
}

// Stop ends the reading, and returns when it has ended.
func (e *Early) Stop() {
	e.stop()
	<-e.ended
}

// follow reads what was written, piece by piece, in order.
func (e *Early) follow(ctx context.Context) {
	var back span.Span // what may be read back
	for piece, err := range e.plan.Disk.Pieces() {
		if err != nil {
			return
		}
		for back.End < piece.End {
			var ok bool
			if back, ok = e.next(ctx, back); !ok {
				return
			}
		}
		if piece.Start < back.Start || piece.Kind == disk.Undefined {
			continue
		}
		if piece.Kind == disk.Data {
			e.look(piece)
			continue
		}
		for sp := range disk.Chunks(piece.Span, zeroStep) {
			if ctx.Err() != nil {
				return
			}
			e.look(disk.Piece{Span: sp, Kind: disk.Zero})
		}
	}
}

// next waits until another stretch was written after what may be read back, flushes it and drops it from the kernel's
// memory; false when nothing more comes. The edge from the time before is dropped, too: its pages weren't then.
func (e *Early) next(ctx context.Context, back span.Span) (more span.Span, ok bool) {
	for {
		select {
		case <-ctx.Done():
			return span.Span{}, false
		case wrote := <-e.wrote:
			from := max(wrote.Start, back.End-earlyEdge)
			if wrote.End-earlyEdge < max(wrote.Start, back.End)+e.step {
				continue
			}
			if err := e.target.Sync(); err != nil { // the writing hears of it as well, and deals with it
				return span.Span{}, false
			}
			e.target.ForgetIn(span.Span{Start: from, End: wrote.End})
			return span.Span{Start: wrote.Start, End: wrote.End - earlyEdge}, true
		}
	}
}

// look compares a piece.
func (e *Early) look(p disk.Piece) {
	var v verdict
	if e.buf, v = e.cmp.piece(p, e.buf); v.bad != "" {
		return
	}
	e.good.Add(p.Span)
	if p.Kind != disk.Data {
		return
	}
	e.seen++
	if len(e.samples) < lookedAgain {
		e.samples = append(e.samples, p)
	} else if i := rand.IntN(e.seen); i < lookedAgain {
		e.samples[i] = p
	}
}

// again reads the samples once more, and forgets all that was found where one of them has changed.
func (e *Early) again(rc *run.Context) error {
	for _, p := range e.samples {
		if err := rc.Err(); err != nil {
			return err
		}
		e.target.ForgetIn(p.Span)
		cmp := *e.cmp
		cmp.ctx = rc
		var v verdict
		if e.buf, v = cmp.piece(p, e.buf); v.bad != "" {
			rc.Note("what was read back as planned while the rest was written has changed since, at byte %d: "+
				"everything is read once more", p.Start)
			e.good = span.Set{}
			return nil
		}
	}
	return nil
}

// Doubt has everything read at the end, whatever was found meanwhile: the target failed at something. It stops the
// reading.
func (e *Early) Doubt() {
	e.Stop()
	e.good, e.samples = span.Set{}, nil
}

// Target is the proof of the target (see Target), with what was read back meanwhile. It stops that reading.
func (e *Early) Target(rc *run.Context, tool string) (*shelf.Proof, error) {
	e.Stop()
	if err := e.again(rc); err != nil {
		return nil, err
	}
	e.target.ForgetIn(span.Span{End: e.target.Size()}) // what is compared shall come from the medium
	proof, err := proveTarget(rc, e.source, e.plan, e.target, tool, e.good)
	if err == nil {
		proof.Meanwhile = e.good.Total()
	}
	return proof, err
}
