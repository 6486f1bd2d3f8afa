package hfsplus

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Interrupted = (*Volume)(nil)

// begin finds out how the volume was left, and reads it from then on as it will be once its journal was replayed.
func (v *Volume) begin() error {
	flags := binary.BigEndian.Uint32(v.head[headAttributes:])
	journaled, unmounted := flags&flagJournaled != 0, flags&flagUnmounted != 0
	var j *journal
	if journaled {
		var err error
		if j, err = v.journal(); err != nil {
			return fmt.Errorf("journal: %w", err)
		}
	}
	switch {
	case flags&flagInconsistent != 0:
		v.rest = fsys.Rest{State: fsys.Dirty, Marked: true, Evidence: []string{"it is marked inconsistent"}}
	case journaled && j.elsewhere:
		v.rest = fsys.Rest{State: fsys.Dirty, Remarks: []string{"its journal is on another device"}}
	case journaled && !j.empty():
		v.rest = fsys.Rest{State: fsys.CutOff, Log: true, Evidence: []string{fmt.Sprintf(
			"its journal is used from byte %d to %d", j.start, j.end)}}
	case journaled && !unmounted:
		v.settled = true
		v.rest = fsys.Rest{State: fsys.Dirty, Evidence: []string{"it isn't marked unmounted, and its journal is " +
			"empty"}}
	case !unmounted:
		v.rest = fsys.Rest{State: fsys.Dirty, Marked: true, Evidence: []string{"it isn't marked unmounted"}}
	}
	if v.rest.Log {
		v.follow(j)
	}
	if v.raw != nil {
		if err := disk.ReadFull(v.r, v.head, v.at+headerAt); err != nil || !signed(v.head) {
			return errors.Join(errors.New("its journal leaves no volume header"), err)
		}
		if err := v.readHeader(); err != nil {
			return err
		}
	}
	v.info.Unclean = v.rest.Words()
	return nil
}

// follow has the volume read as its journal makes it; what can't be followed is remarked.
func (v *Volume) follow(j *journal) {
	p, err := v.readReplay(j)
	if err != nil {
		v.rest.Remarks = append(v.rest.Remarks, "its journal can't be followed: "+err.Error())
		return
	}
	raw := *v
	raw.head = append([]byte(nil), v.head...)
	_ = raw.open() // what of it is written half may be hurt
	v.raw, v.changed = &raw, p
	v.r = replayed{v.r, p}
}

// Rest is how the volume was left.
func (v *Volume) Rest() fsys.Rest { return v.rest }

// Cut keeps what the maps name as they lie there and as the journal makes them, what the journal writes, and the
// journal.
func (v *Volume) Cut(ctx context.Context, _ bool) (*fsys.Cut, error) {
	switch {
	case v.settled:
	case v.rest.State != fsys.CutOff:
		return nil, errors.New("without a journal to be replayed nobody knows what it will be")
	case v.rest.Log && v.raw == nil:
		return nil, errors.New(v.rest.Words())
	}
	kept, err := collected(ctx, v.Used())
	if err != nil {
		return nil, err
	}
	named := int64(0)
	if v.raw != nil {
		was, err := collected(ctx, v.raw.Used())
		if err != nil {
			return nil, err
		}
		named = kept.Subtract(was).Total()
		kept = kept.Union(was).Union(v.changed.changes())
	}
	used := func(yield func(span.Span, error) bool) {
		for sp := range kept.All() {
			if !yield(sp, nil) {
				return
			}
		}
	}
	if err := fsys.CheckKept(ctx, v, used); err != nil {
		return nil, err
	}
	return &fsys.Cut{Used: used, Named: named}, nil
}

// collected is a walk as a set.
func collected(ctx context.Context, walk iter.Seq2[span.Span, error]) (out span.Set, err error) {
	for sp, err := range walk {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return out, err
		}
		out.Add(sp)
	}
	return out, nil
}
