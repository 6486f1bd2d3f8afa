package capture

import (
	"errors"
	"fmt"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

// flight are the reads of a disk that are under way. They are begun in the disk's order, and end in it.
type flight struct {
	depth *depth
	under []*read
	since time.Time // something is being read since then that depth hasn't heard of
}

// read is a block that is read.
type read struct {
	node  *node
	slot  int
	on    span.Span   // on the disk
	spans []span.Span // of it that matter, on the disk
	// known says that it was taken for ref, and is a sample of whether that is right.
	known bool
	ref   shelf.BlockRef

	buf  []byte
	err  error
	done chan struct{} // closed when it has ended
}

// fly begins a read, and ends those that have to end before.
func (rd *reader) fly(x *read) error {
	x.node.pending.Add(1)
	x.buf = (<-rd.free)[:x.on.Len()]
	x.done = make(chan struct{})
	f := rd.flight
	if err := rd.unasked(x.on); err != nil {
		x.err = err
		close(x.done)
	} else {
		if len(f.under) == 0 {
			f.since = time.Now()
		}
		go func() { // whoever lands it waits for it
			defer close(x.done)
			x.err = readSpans(rd.dev, x.buf, x.on.Start, x.spans)
		}()
	}
	for f.under = append(f.under, x); len(f.under) >= f.depth.now; {
		if err := rd.land(); err != nil {
			return err
		}
	}
	return nil
}

// settle ends all reads that are under way.
func (rd *reader) settle() error {
	for len(rd.flight.under) > 0 {
		if err := rd.land(); err != nil {
			return err
		}
	}
	return nil
}

// abandon waits for what is under way when the work fails.
func (rd *reader) abandon() {
	for _, x := range rd.flight.under {
		<-x.done
	}
	rd.flight.under = nil
}

// land ends the first read that is under way, and hands its block on.
func (rd *reader) land() error {
	f := rd.flight
	x := f.under[0]
	waited := float64(len(rd.jobs)) < wished*waiting
	<-x.done
	f.under = f.under[1:]
	err := rd.landed(x)
	if err == nil {
		f.depth.gave(x.on.Len(), time.Since(f.since), waited)
	} else if !errors.Is(err, errJumped) {
		f.depth.failed()
	}
	defer func() { f.since = time.Now() }() // not while a worker was waited for
	if err == nil && x.known && !rd.agrees(x.ref, x.buf) {
		rd.free <- x.buf[:cap(x.buf)]
		return fmt.Errorf("%w: part %d, byte %d has changed and no file says so", errUntrusted, rd.r.area.Number(),
			x.on.Start-rd.r.area.Span.Start)
	}
	buf := x.buf
	if errors.Is(err, disk.ErrStalled) { // the read that hangs may come yet
		buf = make([]byte, rd.work.block)
	}
	if err != nil {
		rd.free <- buf[:cap(buf)]
		rd.postpone(err, deferred{x.node, x.slot, x.spans, x.on, rd.dev, rd.out})
		return nil
	}
	rd.jobs <- job{buf, x.node, x.slot}
	rd.rc.MarkRead(x.on, run.Finished)
	return nil
}
