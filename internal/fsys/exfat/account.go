package exfat

import (
	"context"
	"encoding/binary"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Accountable = (*Volume)(nil)

// Grid is the cluster heap.
func (v *Volume) Grid() fsys.Grid { return fsys.Grid{Start: v.heapAt, Unit: v.cluster, Count: v.count} }

// Account follows all folders and files, and what other kinds of entries have allocated. Every cluster belongs to one
// of them, so folders can't lie in a circle.
func (v *Volume) Account(ctx context.Context, l *fsys.Ledger) error {
	system := []struct {
		first uint32
		limit int64
		at    int64
	}{
		{v.rootAt, maxRootBytes, bootRoot},
		{v.upcase.first, maxRootBytes, v.bitmapAt},
		{v.bitmap.first, (v.count+7)/8 + v.cluster, v.bitmapAt},
	}
	for _, s := range system {
		runs, err := v.follow(s.first, s.limit)
		if err != nil {
			return err
		}
		for _, r := range runs {
			if err := l.Own(r, fsys.Owner{Kind: "the volume itself at byte", Number: s.at}); err != nil {
				return err
			}
		}
	}
	folders := []file{{attr: attrDir, first: v.rootAt, length: v.rootSize}}
	for len(folders) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		dir := folders[len(folders)-1]
		folders = folders[:len(folders)-1]
		var failed error
		err := v.readSets(dir, func(at int64, set []byte) bool {
			var f file
			if f, failed = v.ownSet(l, at, set); failed == nil && f.attr&attrDir != 0 && f.length > 0 {
				folders = append(folders, f)
			}
			return failed == nil
		})
		if err == nil {
			err = failed
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// ownSet enters the clusters of a set of entries, and gives its file.
func (v *Volume) ownSet(l *fsys.Ledger, at int64, set []byte) (file, error) {
	_, f, _, ok := v.decode(set)
	f.at = at
	if !ok || !f.sound {
		return f, fsys.Contradiction(at, "the entries of a file don't fit together")
	}
	all := []file{f}
	for e := set[entryLen:]; len(e) >= entryLen; e = e[entryLen:] {
		if e[0] >= typeSecondary|typeBenign && e[streamFlags]&flagAllocated != 0 {
			all = append(all, streamOf(e, at))
		}
	}
	for _, x := range all {
		if x.length > 0 && x.first == 0 {
			return f, fsys.Contradiction(at, "a file of %d bytes has no cluster", x.length)
		}
		runs, err := v.runs(x)
		if err != nil {
			return f, err
		}
		has := int64(0)
		for _, r := range runs {
			has += r.Len()
			if err := l.Own(r, fsys.Owner{Kind: "the folder entry at byte", Number: at}); err != nil {
				return f, err
			}
		}
		if has < x.length {
			return f, fsys.Contradiction(at, "the clusters of a file end after %d of %d bytes", has, x.length)
		}
	}
	return f, nil
}

// streamOf is what a secondary entry has allocated (section 6.4).
func streamOf(e []byte, at int64) file {
	le := binary.LittleEndian
	return file{at: at, first: le.Uint32(e[entFirst:]), contiguous: e[streamFlags]&flagContiguous != 0,
		length: int64(min(le.Uint64(e[entLength:]), 1<<62))}
}

// readSets calls each with the sets of entries of a directory's files, whole or not, and the byte of the volume at
// which each begins. What can't be read is named by the error, and the rest goes on.
func (v *Volume) readSets(dir file, each func(at int64, set []byte) bool) error {
	if dir.length > maxDirBytes {
		return fsys.Contradiction(dir.at, "a directory of %d bytes", dir.length)
	}
	runs, err := v.runs(dir)
	if dir.first == v.rootAt {
		runs, err = v.follow(v.rootAt, maxRootBytes)
	}
	if err != nil {
		return err
	}
	s := setReader{each: each}
	b := make([]byte, dirPiece)
	for _, r := range runs {
		for sp := range disk.Chunks(r, dirPiece) {
			if err := disk.ReadFull(v.r, b[:sp.Len()], sp.Start); err != nil {
				s.problem, s.set = err, nil
				continue
			}
			for i := int64(0); i < sp.Len() && !s.ended; i += entryLen {
				s.entry(b[i:i+entryLen], sp.Start+i)
			}
			if s.ended {
				return s.problem
			}
		}
	}
	s.flush()
	return s.problem
}

// setReader puts the entries of a directory together to sets.
type setReader struct {
	each    func(at int64, set []byte) bool
	set     []byte // of a file, not complete; nil outside of one
	setAt   int64
	others  int // entries that belong to one of another kind
	ended   bool
	problem error
}

func (s *setReader) flush() {
	if s.set != nil && !s.each(s.setAt, s.set) {
		s.ended = true
	}
	s.set = nil
}

func (s *setReader) entry(e []byte, at int64) {
	inUse, secondary := e[0]&typeInUse != 0, e[0]&typeSecondary != 0
	if s.set != nil && inUse && secondary && len(s.set)/entryLen <= int(s.set[fileCount]) {
		s.set = append(s.set, e...)
		return
	}
	s.flush()
	switch {
	case s.ended:
	case e[0] == typeEnd:
		s.ended = true
	case e[0] == typeFile:
		s.set, s.setAt = append([]byte(nil), e...), at
	case inUse && !secondary && e[0] >= typeBenign: // of another kind, with entries of its own
		s.others = int(e[fileCount])
	case inUse && secondary && s.others > 0:
		s.others--
	case inUse && secondary:
		s.problem = fsys.Contradiction(at, "there are entries of a file whose beginning is lost")
	}
}
