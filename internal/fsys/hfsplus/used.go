package hfsplus

import (
	"fmt"
	"iter"
	"math/bits"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

const bitmapChunk = 1 << 20

// Used yields what the allocation file marks, the start-up blocks with the volume header, its copy, and everything
// around a volume that is wrapped.
func (v *Volume) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		end := v.at + v.blocks*v.unit
		head := span.Span{End: v.at + headerAt + headerLen}
		tail := span.Span{Start: end - copyAt, End: end}
		pending, stopped := head, false
		emit := func(sp span.Span) bool {
			if sp.Start <= pending.End {
				pending.End = max(pending.End, sp.End)
				return true
			}
			stopped = !yield(pending, nil)
			pending = sp
			return !stopped
		}
		err := v.marked(emit)
		switch {
		case stopped:
			return
		case err != nil:
			yield(span.Span{}, err)
			return
		}
		if emit(tail) {
			yield(pending, nil)
		}
	}
}

// marked emits what the allocation file marks, ascending, until emit wants no more.
func (v *Volume) marked(emit func(span.Span) bool) error {
	file, err := v.mapped(v.bitmap)
	if err != nil {
		return fmt.Errorf("allocation file: %w", err)
	}
	if v.bitmap.size < (v.blocks+7)/8 {
		return fsys.Contradiction(v.at+headerAt+headBitmap, "the allocation file of %d bytes ends before block %d",
			v.bitmap.size, v.blocks)
	}
	buf := make([]byte, bitmapChunk)
	for done := int64(0); done < v.blocks; {
		n := min(int64(len(buf))*8, v.blocks-done)
		b := buf[:(n+7)/8]
		if err := disk.ReadFull(file, b, done/8); err != nil {
			return fmt.Errorf("allocation file: %w", err)
		}
		for i, c := range b { // the highest bit comes first here
			b[i] = bits.Reverse8(c)
		}
		for from, to := range fsys.Runs(b, int(n)) {
			if !emit(v.span(done+int64(from), int64(to-from))) {
				return nil
			}
		}
		done += n
	}
	return nil
}
