// Package families lists the families of file systems.
package families

import (
	"context"
	"io"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/apfs"
	"twinshelf/internal/fsys/exfat"
	"twinshelf/internal/fsys/ext"
	"twinshelf/internal/fsys/fat"
	"twinshelf/internal/fsys/hfsplus"
	"twinshelf/internal/fsys/ntfs"
	"twinshelf/internal/fsys/swap"
	"twinshelf/internal/lock"
)

// All are the families.
func All() fsys.Families {
	return fsys.Families{apfs.Family(), exfat.Family(), ext.Family(), fat.Family(), hfsplus.Family(), ntfs.Family(),
		swap.Family()}
}

// Identify returns the volume on a part, or the container with the volumes in it; see fsys.Families.Identify, and
// Examine for others. Locked volumes are opened by the keys that the context carries (lock.With).
func Identify(ctx context.Context, r io.ReaderAt, size int64, sector int, others ...Member) (fsys.Volume, error) {
	return identify(ctx, r, size, sector, others, 0)
}

func identify(ctx context.Context, r io.ReaderAt, size int64, sector int, others []Member,
	depth int) (fsys.Volume, error) {
	if l, none := dynamic(Member{R: r, Size: size}, sector, others); none != nil {
		return none, nil
	} else if l != nil {
		l.identify(ctx, depth)
		return l, nil
	}
	v, err := All().Identify(r, size, sector)
	unlock(ctx, v)
	if err != nil || depth >= maxLayers {
		return v, err
	}
	l, err := open(ctx, v, r, size, sector, others)
	if err == nil && l != nil {
		l.identify(ctx, depth)
		return l, nil
	}
	if locked := lockedBy(err, size); locked != nil {
		return locked, nil
	}
	return v, nil // what can't be followed stays what its signature says
}

// Examine recognises what a part holds, and which of its bytes matter, through containers too; see
// fsys.Families.Examine. others are members that a container on the part may have beside it; those that aren't of it do
// no harm.
func Examine(ctx context.Context, r io.ReaderAt, size int64, sector int, others ...Member) (fsys.Content, error) {
	return examine(ctx, r, size, sector, others, 0)
}

func examine(ctx context.Context, r io.ReaderAt, size int64, sector int, others []Member,
	depth int) (fsys.Content, error) {
	if l, none := dynamic(Member{R: r, Size: size}, sector, others); none != nil {
		return fsys.Judge(ctx, none, size)
	} else if l != nil {
		return l.judge(ctx, depth)
	}
	v, err := All().Identify(r, size, sector)
	if err == nil && depth < maxLayers {
		l, err := open(ctx, v, r, size, sector, others)
		if l != nil {
			return l.judge(ctx, depth)
		}
		if locked := lockedBy(err, size); locked != nil {
			return fsys.Judge(ctx, locked, size)
		}
		if err != nil {
			c, failed := All().Examine(ctx, r, size, sector)
			c.Why += ", which can't be followed: " + err.Error()
			return c, failed
		}
	}
	c, err := All().Examine(ctx, r, size, sector)
	unlock(ctx, c.Volume)
	return c, err
}

// unlock has a volume in which others are encrypted read these with the keys that the context carries.
// ExamineChecked is Examine of a part whose maps were compared with its records when it was as it is now, as a twin
// says of its parts; see fsys.JudgeChecked.
func ExamineChecked(ctx context.Context, r io.ReaderAt, size int64, sector int) (fsys.Content, error) {
	v, err := Identify(ctx, r, size, sector)
	if _, layers := v.(fsys.Layered); err != nil || v == nil || layers {
		return Examine(ctx, r, size, sector)
	}
	return fsys.JudgeChecked(ctx, v, size)
}

func unlock(ctx context.Context, v fsys.Volume) {
	if x, ok := v.(fsys.Lockable); ok {
		x.Use(lock.From(ctx))
	}
}

// judge says which bytes of the part matter.
func (l *layered) judge(ctx context.Context, depth int) (fsys.Content, error) {
	if err := l.examine(ctx, depth); err != nil {
		return fsys.Content{}, err
	}
	c, err := fsys.Judge(ctx, l, l.members[0].Size)
	c.Info.Unclean, c.Doubt = l.unquiet()
	c.Sound = c.Sound && c.Info.Unclean == "" && c.Doubt == ""
	return c, err
}

// Makers are the kinds that can be made, by name.
func Makers() []fsys.Maker { return All().Makers() }

// MakerOf finds a kind that can be made, whatever the case of its letters.
func MakerOf(kind string) (fsys.Maker, error) { return All().MakerOf(kind) }
