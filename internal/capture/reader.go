package capture

import (
	"bytes"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

// reader reads one disk in order.
type reader struct {
	*work
	dev  disk.Device
	out  *shelf.TwinDisk
	gone error     // the disk has vanished; the rest is missing
	hole span.Span // the last one that the device told of
	// jumps are over the neighbourhoods of bad places.
	jumps  careful.Jumps
	flight *flight

	earlier *earlier // the part as it was in the twin before; nil when nothing can be taken over
	r       *region
	node    *node
	block   int64 // number in the region; -1 before the first
	spans   []span.Span
}

func (rd *reader) region(r *region) error {
	rd.r, rd.node, rd.block, rd.spans = r, nil, -1, nil
	for sp, err := range r.area.Content.Spans() {
		if err != nil {
			return fmt.Errorf("part %d: its maps can't be read any more: %w; look at the disk again on the Bench",
				r.area.Number(), err)
		}
		for !sp.Empty() {
			k := sp.Start / rd.work.block
			if k != rd.block {
				if err := rd.flush(); err != nil {
					return err
				}
				rd.block = k
			}
			head := sp.Intersect(span.At(k*rd.work.block, rd.work.block))
			rd.spans = append(rd.spans, head)
			sp.Start = head.End
		}
	}
	if err := rd.flush(); err != nil {
		return err
	}
	if err := rd.settle(); err != nil {
		return err
	}
	rd.enter(nil)
	return nil
}

// enter changes the node that the reader holds.
func (rd *reader) enter(n *node) {
	if rd.node != nil {
		rd.release(rd.node)
	}
	rd.node = n
}

// flush reads the block whose spans were collected and hands it on.
func (rd *reader) flush() error {
	if len(rd.spans) == 0 {
		return nil
	}
	if err := rd.err(); err != nil {
		return err
	}
	base := rd.r.area.Span.Start
	blockSpan := span.At(rd.block*rd.work.block, rd.work.block).Intersect(span.Span{End: rd.r.area.Span.Len()})
	if k := int(rd.block / shelf.NodeBlocks); rd.node == nil || rd.node.index != k {
		n := &node{region: rd.r, index: k}
		first := int64(k) * shelf.NodeBlocks
		total := (rd.r.area.Span.Len() + rd.work.block - 1) / rd.work.block
		n.refs = make([]shelf.BlockRef, min(shelf.NodeBlocks, total-first))
		n.pending.Store(1)
		rd.enter(n)
	}
	slot := int(rd.block % shelf.NodeBlocks)
	var want int64
	for i := range rd.spans {
		want += rd.spans[i].Len()
		rd.spans[i] = rd.spans[i].Shift(base)
	}
	on := blockSpan.Shift(base)
	spans := rd.spans
	rd.spans = nil
	if rd.isHole(on) {
		rd.node.refs[slot].Kind = disk.Zero
		if !rd.r.area.Content.Maps {
			want = 0 // the plan didn't count it
		}
		rd.r.out.Used += want
		rd.rc.MarkRead(on, run.Finished)
		return rd.rc.Skip(want)
	}
	rd.r.out.Used += want
	ref, known, sample := rd.earlier.takeOver(rd.block)
	if known && !sample && rd.gone == nil {
		rd.node.refs[slot] = ref
		rd.r.out.Trusted += want
		rd.rc.MarkRead(on, run.Finished)
		return rd.rc.Skip(want)
	}
	if err := rd.fly(&read{node: rd.node, slot: slot, on: on, spans: spans, known: known, ref: ref}); err != nil {
		return err
	}
	return rd.rc.Step(want)
}

// agrees says whether a sample holds what was taken for unchanged.
func (rd *reader) agrees(ref shelf.BlockRef, buf []byte) bool {
	if ref.Kind == disk.Zero {
		return bytes.Equal(buf, rd.zero[:len(buf)])
	}
	return rd.earlier.disk.NameOf(buf) == ref.Name.String()
}

// isHole says whether the device knows that the stretch reads as zeros.
func (rd *reader) isHole(sp span.Span) bool {
	if rd.gone != nil {
		return false
	}
	if !rd.hole.Covers(sp) { // as the device said when it was asked last
		rd.hole = disk.HoleFrom(rd.dev, sp.Start)
	}
	return rd.hole.Covers(sp)
}

// joinGap is up to how many unneeded bytes are read to save a separate read.
const joinGap = 128 << 10

// readSpans fills buf, which begins at byte base of the device, with the spans
// and zeros everywhere else.
func readSpans(dev disk.Device, buf []byte, base int64, spans []span.Span) error {
	for i := 0; i < len(spans); {
		j := i + 1
		for j < len(spans) && spans[j].Start-spans[j-1].End <= joinGap {
			j++
		}
		sp := span.Span{Start: spans[i].Start, End: spans[j-1].End}
		if err := disk.ReadFullPassing(dev, buf[sp.Start-base:sp.End-base], sp.Start); err != nil {
			return err
		}
		i = j
	}
	at := base
	for _, sp := range spans {
		clear(buf[at-base : sp.Start-base])
		at = sp.End
	}
	clear(buf[at-base:])
	return nil
}
