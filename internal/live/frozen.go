package live

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Room for what is written while a snapshot is read: a share of the volume, and bounds.
const (
	roomShare = 5 // the fifth part
	leastRoom = 64 * units.MiB
	mostRoom  = 64 * units.GiB
	// mostHead bounds what lies before the data of a physical volume.
	mostHead = 256 * units.MiB
	// endWithin is how long it may take to take snapshots away.
	endWithin = 2 * time.Minute
)

// CantError says why a disk that is in use can't be read as it is at one moment.
type CantError struct{ Why string }

func (e *CantError) Error() string { return "it can't be captured while it is in use: " + e.Why }

func cant(format string, args ...any) error { return &CantError{fmt.Sprintf(format, args...)} }

// stretch is a run of bytes of the disk that is read elsewhere.
type stretch struct {
	at   span.Span // on the disk
	from io.ReaderAt
	off  int64 // where it begins there
}

// Means are what is done to a system; tests have others.
type Means struct {
	LVM Tool
	// Mount mounts a file system anew where it is mounted, ro or rw.
	Mount func(ctx context.Context, how, point string) error
	// Forget has the kernel forget what it read of a disk before.
	Forget func(path string) error
}

// Usual are the means of this machine.
func Usual() Means { return Means{System, remount, forget} }

// Frozen is a disk as it was at one moment, while it is used on. End takes away what that needs.
type Frozen struct {
	disk.Device
	// Did says in words what was done for it.
	Did []string

	means     Means
	stretches []stretch // ascending
	snapshots []string  // group/name
	readOnly  []string  // where file systems are mounted read-only meanwhile
	open      []*os.File
}

// Freeze makes snapshots of the logical volumes on a disk that are mounted to be written, and mounts other file systems
// of it read-only. path is the node of the disk. Where it fails nothing is left behind.
func Freeze(ctx context.Context, means Means, host disk.Host, path string, dev disk.Device) (f *Frozen, err error) {
	name := host.KernelName(path)
	f = &Frozen{Device: dev, means: means}
	defer func() {
		if err != nil {
			err = errors.Join(err, f.End(ctx))
			f = nil
		}
	}()
	if err := means.Forget(path); err != nil {
		return f, err
	}
	on, err := means.LVM.physicals(ctx)
	if err != nil {
		return f, err
	}
	found, err := means.LVM.volumes(ctx, on)
	if err != nil {
		return f, err
	}
	all := candidates(found)
	parts := host.Partitions(name)
	parts[name] = 0
	if err := f.heads(on, parts); err != nil {
		return f, err
	}
	if err := f.quiet(ctx, host, parts, all); err != nil {
		return f, err
	}
	if err := unhandled(host.UsesOfBlock(name), on, name); err != nil { // snapshots would be told of, too
		return f, err
	}
	if err := means.Forget(path); err != nil {
		return f, err
	}
	for _, v := range all {
		if !v.wanted {
			continue
		}
		if on, err = means.LVM.physicals(ctx); err != nil { // there is less room after each
			return f, err
		}
		if err := f.snapshot(ctx, v.volume, on, parts); err != nil {
			return f, err
		}
	}
	slices.SortFunc(f.stretches, func(a, b stretch) int { return int(min(1, max(-1, a.at.Start-b.at.Start))) })
	return f, nil
}

// forget has the kernel forget what it read of a disk before: what file systems wrote since went past that.
func forget(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := unix.IoctlSetInt(int(f.Fd()), unix.BLKFLSBUF, 0); err != nil {
		return fmt.Errorf("the kernel doesn't forget what it read of %s before: %w", path, err)
	}
	return nil
}

// unhandled says which use of a disk keeps it from being read as it was at one moment: neither a volume of LVM, nor
// swap, nor read-only by now.
func unhandled(uses []disk.Use, on map[string]physical, name string) error {
	for _, u := range uses {
		carrier, _, carries := strings.Cut(u.What, " carries ")
		if carrier == "it" {
			carrier = name
		}
		_, physical := on[carrier]
		if u.Writes && !(carries && physical) && !strings.HasSuffix(u.What, "is in use as swap") {
			return cant("%s", u.What)
		}
	}
	return nil
}

// candidate is a volume, and whether a snapshot of it is wanted.
type candidate struct {
	*volume
	wanted bool
}

// isOn says whether any of it lies on a disk.
func (v *candidate) isOn(parts map[string]int64) bool {
	return slices.ContainsFunc(v.segments, func(s segment) bool {
		_, here := parts[s.physical]
		return here || !s.linear
	})
}

// Tidy removes snapshots of a process that was killed. It is called before the first disk is frozen: those of the
// others aren't left behind.
func Tidy(ctx context.Context, means Means) error {
	on, err := means.LVM.physicals(ctx)
	if err != nil {
		return err
	}
	all, err := means.LVM.volumes(ctx, on)
	if err != nil {
		return err
	}
	for _, v := range all {
		if !slices.Contains(v.tags, tag) {
			continue
		}
		if _, err := means.LVM(ctx, "lvremove", "--yes", v.title()); err != nil {
			return fmt.Errorf("a snapshot that was left behind can't be removed: %w", err)
		}
	}
	return nil
}

// candidates are the volumes but for snapshots that were made here.
func candidates(all []*volume) (out []*candidate) {
	for _, v := range all {
		if !slices.Contains(v.tags, tag) {
			out = append(out, &candidate{volume: v})
		}
	}
	return out
}

// heads keeps what lies before and after the data of the disk's physical volumes as it is now: the snapshots will be
// written into the descriptions there, and mustn't be in the twin.
func (f *Frozen) heads(on map[string]physical, parts map[string]int64) error {
	for part, start := range parts {
		p, is := on[part]
		if !is {
			continue
		}
		end := p.data + p.extents*p.extent
		if p.data <= 0 || p.data > mostHead || end > p.size || p.size-end > mostHead {
			return cant("the data of %s lies at byte %d to %d of %d", part, p.data, end, p.size)
		}
		for _, sp := range []span.Span{{Start: 0, End: p.data}, {Start: end, End: p.size}} {
			b := make([]byte, sp.Len())
			if err := disk.ReadFull(f.Device, b, start+sp.Start); err != nil {
				return err
			}
			f.stretches = append(f.stretches, stretch{span.At(start+sp.Start, sp.Len()), bytes.NewReader(b), 0})
		}
	}
	f.stretches = slices.DeleteFunc(f.stretches, func(s stretch) bool { return s.at.Empty() })
	return nil
}

// quiet marks the volumes that a snapshot is wanted of, and mounts what else of the disk is mounted to be written
// read-only.
func (f *Frozen) quiet(ctx context.Context, host disk.Host, parts map[string]int64, all []*candidate) error {
	devices := map[string]bool{}
	for part := range parts {
		b, err := os.ReadFile(filepath.Join("/", host.Root, "sys/class/block", part, "dev"))
		if err != nil {
			return err
		}
		devices[strings.TrimSpace(string(b))] = true
	}
	mounted := map[string]bool{}
	for _, m := range host.Mounts() {
		mounted[m.Device] = true
		if m.ReadOnly {
			continue
		}
		for _, v := range all {
			v.wanted = v.wanted || v.device == m.Device && v.isOn(parts)
		}
		if !devices[m.Device] {
			continue
		}
		delete(devices, m.Device) // it may be mounted at several places
		if err := f.means.Mount(ctx, "ro", m.Point); err != nil {
			return cant("%s can't be mounted read-only meanwhile: %v", m.Point, err)
		}
		f.readOnly = append(f.readOnly, m.Point)
		f.Did = append(f.Did, m.Point+" was mounted read-only meanwhile")
	}
	swaps, err := os.ReadFile(filepath.Join("/", host.Root, "proc/swaps"))
	if err != nil {
		return err
	}
	for _, v := range all {
		swap := strings.Contains(string(swaps), v.node+" ") || strings.Contains(string(swaps), "/"+node(v.node)+" ")
		if v.open && v.isOn(parts) && !mounted[v.device] && !swap {
			return cant("%s is used by something that isn't a file system, such as an encryption", v.title())
		}
	}
	return nil
}

// snapshot makes a snapshot of a volume, and has its stretches of the disk read there.
func (f *Frozen) snapshot(ctx context.Context, v *volume, on map[string]physical, parts map[string]int64) error {
	free := int64(0)
	for _, p := range on { // its description there would name the snapshot
		if _, here := parts[p.node]; p.group == v.group && !here {
			return cant("the group %s lies on other disks, too", v.group)
		}
	}
	for _, s := range v.segments {
		start, here := parts[s.physical]
		switch {
		case !s.linear:
			return cant("%s isn't laid out linearly (it is striped, mirrored, thin or has snapshots)", v.title())
		case !here:
			return cant("%s lies on other disks, too", v.title())
		}
		p := on[s.physical]
		free = p.free
		f.stretches = append(f.stretches, stretch{at: span.At(start+p.data+s.at, s.length), off: s.start})
	}
	want := min(max(v.size/roomShare, leastRoom), mostRoom, v.size)
	if free < min(leastRoom, want) {
		return cant("the group %s has %s free, and a snapshot of %s needs %s for what is written meanwhile: take the "+
			"machine down, or make the group "+
			"larger", v.group, units.Bytes(free), v.title(), units.Bytes(min(leastRoom, want)))
	}
	name := tag + "_" + v.name
	if _, err := f.means.LVM(ctx, "lvcreate", "--yes", "--snapshot", "--permission", "r", "--addtag", tag, "--name",
		name,
		"--size", fmt.Sprintf("%db", min(want, free)), v.title()); err != nil {
		return fmt.Errorf("no snapshot of %s: %w", v.title(), err)
	}
	f.snapshots = append(f.snapshots, v.group+"/"+name)
	f.Did = append(f.Did, fmt.Sprintf("%s was read through a snapshot of %s", v.title(), units.Moment(time.Now())))
	rows, err := f.means.LVM.report(ctx, "lv", "lvs", "lv_dm_path", v.group+"/"+name)
	if err != nil || len(rows) != 1 {
		return fmt.Errorf("the snapshot of %s can't be found: %w", v.title(), err)
	}
	from, err := os.Open(rows[0]["lv_dm_path"])
	if err != nil {
		return fmt.Errorf("the snapshot of %s can't be read: %w", v.title(), err)
	}
	f.open = append(f.open, from)
	for i := range f.stretches {
		if f.stretches[i].from == nil {
			f.stretches[i].from = from
		}
	}
	return nil
}

// ReadAt reads the disk as it was.
func (f *Frozen) ReadAt(b []byte, off int64) (n int, err error) {
	for n < len(b) {
		at := off + int64(n)
		rest := b[n:]
		i, inside := slices.BinarySearchFunc(f.stretches, at, func(s stretch, at int64) int {
			switch {
			case s.at.End <= at:
				return -1
			case s.at.Start > at:
				return 1
			}
			return 0
		})
		var k int
		switch {
		case inside:
			s := f.stretches[i]
			k, err = s.from.ReadAt(rest[:min(int64(len(rest)), s.at.End-at)], s.off+at-s.at.Start)
			if err == io.EOF && k == int(min(int64(len(rest)), s.at.End-at)) {
				err = nil
			}
		case i < len(f.stretches):
			k, err = f.Device.ReadAt(rest[:min(int64(len(rest)), f.stretches[i].at.Start-at)], at)
		default:
			k, err = f.Device.ReadAt(rest, at)
		}
		if n += k; err != nil {
			return n, err
		}
	}
	return n, nil
}

// Whole says whether the snapshots held all that was written meanwhile: one that overflowed is worth nothing.
func (f *Frozen) Whole(ctx context.Context) error {
	for _, s := range f.snapshots {
		rows, err := f.means.LVM.report(ctx, "lv", "lvs", "lv_snapshot_invalid", s)
		if err != nil {
			return err
		}
		if len(rows) != 1 || rows[0]["lv_snapshot_invalid"] != "" && rows[0]["lv_snapshot_invalid"] != "0" {
			return cant("more was written meanwhile than the snapshot %s had room for", s)
		}
	}
	return nil
}

// End removes the snapshots and mounts what was read-only to be written again, also when the context has ended.
func (f *Frozen) End(ctx context.Context) (err error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), endWithin)
	defer cancel()
	for _, file := range f.open {
		err = errors.Join(err, file.Close())
	}
	for _, s := range f.snapshots {
		if _, e := f.means.LVM(ctx, "lvremove", "--yes", s); e != nil {
			err = errors.Join(err, fmt.Errorf("the snapshot %s is left behind: %w", s, e))
		}
	}
	for _, p := range f.readOnly {
		if e := f.means.Mount(ctx, "rw", p); e != nil {
			err = errors.Join(err, fmt.Errorf("%s is still mounted read-only: %w", p, e))
		}
	}
	f.open, f.snapshots, f.readOnly = nil, nil, nil
	return err
}

// remount mounts a file system anew where it is mounted, ro or rw.
func remount(ctx context.Context, how, point string) error {
	out, err := exec.CommandContext(ctx, "mount", "-o", "remount,"+how, point).CombinedOutput()
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = fmt.Errorf("%w: %s", err, said)
	}
	return err
}
