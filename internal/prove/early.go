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
	// earlyHead is written last, in bytes.
	earlyHead = 1 << 20
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
// else is.
type Early struct {
	cmp    *comparison
	target Medium
	step   int64 // see earlyStep
	wrote  chan int64
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
	e := &Early{target: target, step: step, wrote: make(chan int64, 1), stop: stop, ended: make(chan struct{}),
		cmp: &comparison{ctx: ctx, planned: p.Disk, target: target, used: newUsed(p.Disk, planned(source, p))}}
	go func() {
		defer close(e.ended)
		e.follow(ctx)
	}()
	return e
}

// Wrote says that all from the first MiB up to a byte was written. Only one goroutine calls it.
func (e *Early) Wrote(upto int64) {
	select {
	case <-e.wrote: // what was said before is out of date
	default:
	}
	e.wrote <- upto
}

// Stop ends the reading, and returns when it has ended.
func (e *Early) Stop() {
	e.stop()
	<-e.ended
}

// follow reads what was written, piece by piece, in order.
func (e *Early) follow(ctx context.Context) {
	from, upto := int64(earlyHead), int64(earlyHead)
	for piece, err := range e.cmp.planned.Pieces() {
		if err != nil {
			return
		}
		for upto < piece.End {
			var ok bool
			if from, upto, ok = e.next(ctx, from, upto); !ok {
				return
			}
		}
		if piece.Start < earlyHead || piece.Kind == disk.Undefined {
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

// next waits until the next stretch was written, flushes it and drops it from the kernel's memory; false when nothing
// more comes. What begins at from is dropped, too: the pages at its edge weren't the time before.
func (e *Early) next(ctx context.Context, from, upto int64) (start, end int64, ok bool) {
	for {
		select {
		case <-ctx.Done():
			return 0, 0, false
		case wrote := <-e.wrote:
			if wrote-earlyEdge-upto < e.step {
				continue
			}
			if err := e.target.Sync(); err != nil { // the writing hears of it as well, and deals with it
				return 0, 0, false
			}
			e.target.ForgetIn(span.Span{Start: from, End: wrote})
			return max(earlyHead, wrote-2*earlyEdge), wrote - earlyEdge, true
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

// Target is the proof of the target (see Target), with what was read back before. It stops that.
func (e *Early) Target(rc *run.Context, source *shelf.TwinDisk, p *plan.Plan, tool string) (*shelf.Proof, error) {
	e.Stop()
	if err := e.again(rc); err != nil {
		return nil, err
	}
	e.target.ForgetIn(span.Span{End: e.target.Size()})
	proof, err := proveTarget(rc, source, p, e.target, tool, e.good)
	if err == nil {
		proof.Meanwhile = e.good.Total()
	}
	return proof, err
}
