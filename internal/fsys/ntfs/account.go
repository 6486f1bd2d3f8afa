package ntfs

import (
	"bytes"
	"context"
	"encoding/binary"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Accountable = (*Volume)(nil)

// Grid is the clusters of the volume.
func (v *Volume) Grid() fsys.Grid { return fsys.Grid{Unit: v.cluster, Count: v.clusters} }

// Account enters the runs of every attribute of every record in use: contents, streams, indexes, attribute lists, and
// with the records of the volume's own files $MFT, its mirror, the log and the bitmaps.
func (v *Volume) Account(ctx context.Context, l *fsys.Ledger) error {
	le := binary.LittleEndian
	return v.walkRecords(func(number int64, raw []byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		at := number * v.record
		if used, err := everUsed(&v.records, number, raw); err != nil || !used {
			return err
		}
		if le.Uint16(raw[recFlags:])&recordInUse == 0 {
			return nil
		}
		r := record{number: number, at: at, b: raw}
		if err := unfix(raw, recMagic, at); err != nil {
			return err
		}
		return eachNamed(v, &r, l.Own)
	})
}

// everUsed says whether a record was ever used. The error is for one that is damaged.
func everUsed(v *records, number int64, raw []byte) (bool, error) {
	at := number * v.record
	switch {
	case string(raw[:4]) == recMagic:
		return true, nil
	case at+v.record > v.mftValid || bytes.Count(raw, []byte{0}) == len(raw):
		return false, nil
	}
	return false, fsys.Contradiction(at, "file record %d is damaged, so what it names isn't known", number)
}

// eachNamed enters the clusters that a record names.
func eachNamed(v *Volume, r *record, enter func(span.Span, fsys.Owner) error) error {
	attrs, whole := r.allAttributes()
	if !whole {
		return fsys.Contradiction(r.at, "the attributes of file record %d are garbled", r.number)
	}
	owner := fsys.Owner{Kind: "file record", Number: r.number}
	for _, a := range attrs {
		if !a.nonResident {
			continue
		}
		runs, err := v.decodeRuns(a)
		if err != nil {
			return err
		}
		for _, x := range runs {
			if x.sparse {
				continue
			}
			if err := enter(v.clusterSpan(x.lcn, x.n), owner); err != nil {
				return err
			}
		}
	}
	return nil
}
