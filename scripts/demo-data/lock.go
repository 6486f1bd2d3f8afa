package main

import (
	"context"
	"errors"
	"iter"
	"math/rand/v2"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/ntfs"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

const (
	logBytes = 256 << 10
	// worth is how long a hole may be that is enciphered too: bitmaps have some, files that only take room are longer.
	worth = units.MiB
)

// lock puts the Windows system in an image to sleep, with an open log, and writes it locked to another one.
func lock(image, out, key string) error {
	if err := sleep(image); err != nil {
		return err
	}
	plain, err := disk.Open(image, disk.Identity{})
	if err != nil {
		return err
	}
	defer plain.Close()
	v, err := families.All().Identify(plain, plain.Size(), plain.SectorSize())
	if err != nil {
		return err
	}
	f, err := os.OpenFile(out, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if err := f.Truncate(plain.Size()); err != nil {
		return err
	}
	const at = 20 * units.GiB
	_, err = bitlocker.Make(context.Background(), plain, plain.Size(), used(plain, v), bitlocker.Making{
		Form: bitlocker.Fixed, Cipher: bitlocker.XTS128, Sector: 512, Label: "BOOKING-OFFICE C: 03.11.2026",
		When: time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC), Recovery: key,
		Areas:  [4]int64{at, at + units.MiB, at + 2*units.MiB, at + 3*units.MiB},
		Random: rand.NewChaCha8([32]byte{16})}, f)
	return errors.Join(err, f.Close())
}

// sleep gives the hibernation file a head, and the volume an open log.
func sleep(image string) error {
	d, err := disk.Open(image, disk.Identity{})
	if err != nil {
		return err
	}
	defer d.Close()
	v, err := families.All().Identify(d, d.Size(), d.SectorSize())
	if err != nil {
		return err
	}
	log, err := ntfs.NewLog(logBytes, 2, 41)
	if err != nil {
		return err
	}
	log.Work(9000, 40)
	patches, err := ntfs.PutToSleep(v, time.Date(2026, 11, 27, 16, 41, 0, 0, time.UTC), true, log)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(image, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	for _, p := range patches {
		if _, err := f.WriteAt(p.Data, p.Off); err != nil {
			return err
		}
	}
	// What was never written of a log may be anything.
	if err := unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, patches[1].Span().End,
		64*units.MiB-logBytes); err != nil {
		return err
	}
	return f.Close()
}

// used are the stretches of a volume that hold something, with their smaller holes.
func used(d *disk.File, v fsys.Volume) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for sp, err := range v.Used() {
			for err == nil && !sp.Empty() {
				data, failed := d.NextData(sp.Start)
				if failed != nil { // there is none
					data = span.At(sp.End, 0)
				}
				hole := span.Span{Start: sp.Start, End: min(sp.End, data.Start)}
				if hole.Len() > 0 && hole.Len() <= worth && !yield(hole) {
					return
				}
				here := data.Intersect(sp)
				if !here.Empty() && !yield(here) {
					return
				}
				sp.Start = max(hole.End, here.End)
			}
		}
	}
}
