package exfat

import (
	"encoding/binary"
	"fmt"
	"io/fs"
	"iter"
	"strings"
	"time"
	"unicode/utf16"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

const (
	maxDirBytes = 256 << 20 // the largest directory (section 7.4)
	dirPiece    = 64 << 10
)

// Files gives the volume's tree. Names are found whatever their case.
func (v *Volume) Files() (fsys.Tree, error) { return tree{v}, nil }

var _ fsys.Files = (*Volume)(nil)

type tree struct{ v *Volume }

// file is what a set of entries says. at is where the set begins, in bytes of the volume.
type file struct {
	at         int64
	attr       uint16
	first      uint32
	contiguous bool
	length     int64
	valid      int64 // bytes that were written; the rest reads as zeros
	sound      bool  // whether the set's checksum is right
}

// runs is where a stream lies.
func (v *Volume) runs(f file) ([]span.Span, error) {
	if f.length == 0 || f.first == 0 {
		return nil, nil
	}
	if !f.contiguous {
		return v.follow(f.first, (f.length+v.cluster-1)/v.cluster*v.cluster)
	}
	at, err := v.clusterAt(f.first)
	if err != nil {
		return nil, err
	}
	sp := span.At(at, (f.length+v.cluster-1)/v.cluster*v.cluster)
	if sp.End > v.heapAt+v.count*v.cluster {
		return nil, fsys.Contradiction(f.at, "%d bytes from cluster %d on lie beyond the volume", f.length, f.first)
	}
	return []span.Span{sp}, nil
}

// readDir calls each with the files of a directory. Sets that don't fit together are left out and named by the error.
func (v *Volume) readDir(dir file, each func(name string, f file, when times) bool) error {
	var problem error
	err := v.readSets(dir, func(at int64, set []byte) bool {
		name, f, when, ok := v.decode(set)
		if f.at = at; !ok {
			problem = fsys.Contradiction(at, "the entries of a file don't fit together")
			return true
		}
		return each(name, f, when)
	})
	if err == nil {
		err = problem
	}
	return err
}

type times struct{ made, modified, read time.Time }

// decode takes a set apart; ok is false when it isn't one.
func (v *Volume) decode(set []byte) (name string, f file, when times, ok bool) {
	le := binary.LittleEndian
	n := len(set)/entryLen - 1
	if n != int(set[fileCount]) || n < minSecondary || n > maxSecondary || set[entryLen] != typeStream {
		return "", f, when, false
	}
	s := set[entryLen:]
	f = streamOf(s, 0)
	f.attr, f.sound = le.Uint16(set[fileAttr:]), setSum(set) == le.Uint16(set[fileSum:])
	f.valid = min(int64(min(le.Uint64(s[streamValid:]), 1<<62)), f.length)
	var units []uint16
	for i := 2 * entryLen; i < len(set) && set[i] == typeName; i += entryLen {
		for j := range nameUnits {
			units = append(units, le.Uint16(set[i+2+2*j:]))
		}
	}
	length := int(s[streamNameLen])
	if length == 0 || length > len(units) {
		return "", f, when, false
	}
	name = string(utf16.Decode(units[:length]))
	when = times{stamp(set[fileMade:], set[fileMade10], set[fileMadeZone]),
		stamp(set[fileModified:], set[fileMod10], set[fileModZone]), stamp(set[fileRead:], 0, set[fileReadZone])}
	return name, f, when, name != "." && name != ".." && !strings.ContainsAny(name, "/\x00")
}

// setSum is the checksum of a set (section 6.3.3).
func setSum(set []byte) uint16 {
	var sum uint16
	for i, c := range set {
		if i != fileSum && i != fileSum+1 {
			sum = sum<<15 | sum>>1
			sum += uint16(c)
		}
	}
	return sum
}

// stamp decodes a time (section 7.4.8): two seconds fine, with hundredths and a zone in quarters of an hour, or local
// time without.
func stamp(b []byte, hundredths, zone byte) time.Time {
	t := binary.LittleEndian.Uint32(b)
	if t>>16 == 0 {
		return time.Time{}
	}
	where := time.Local
	if zone&0x80 != 0 {
		where = time.FixedZone("", int(int8(zone<<1)>>1)*15*60)
	}
	return time.Date(1980+int(t>>25), time.Month(t>>21&15), int(t>>16&31), int(t>>11&31), int(t>>5&63), int(t&31)*2,
		int(min(hundredths, 199))*10_000_000, where)
}

func (t tree) Root() (fsys.Item, error) {
	return fsys.Item{Mode: fs.ModeDir | 0o755, Links: 1, ID: uint64(t.v.rootAt),
		Ref: file{attr: attrDir, first: t.v.rootAt, length: t.v.rootSize}}, nil
}

func folder(it fsys.Item) (file, error) {
	f, ok := it.Ref.(file)
	switch {
	case !ok:
		return f, fmt.Errorf("%s isn't an item of this volume", it.Name)
	case f.attr&attrDir == 0:
		return f, fmt.Errorf("%s is no folder", it.Name)
	}
	return f, nil
}

func (t tree) List(it fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		dir, err := folder(it)
		if err != nil {
			yield(fsys.Item{}, err)
			return
		}
		on := true
		err = t.v.readDir(dir, func(name string, f file, when times) bool {
			on = yield(item(name, f, when), nil)
			return on
		})
		if err != nil && on {
			yield(fsys.Item{}, err)
		}
	}
}

func (t tree) Lookup(it fsys.Item, name string) (fsys.Item, error) {
	dir, err := folder(it)
	if err != nil {
		return fsys.Item{}, err
	}
	found, ok := fsys.Item{}, false
	err = t.v.readDir(dir, func(n string, f file, when times) bool {
		if ok = strings.EqualFold(n, name); ok {
			found = item(n, f, when)
		}
		return !ok
	})
	switch {
	case ok:
		return found, nil
	case err != nil:
		return found, err
	}
	return found, fs.ErrNotExist
}

func (t tree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	f, ok := it.Ref.(file)
	switch {
	case !ok || f.attr&attrDir != 0:
		return nil, fmt.Errorf("%s has no contents", it.Name)
	case stream != "":
		return nil, fs.ErrNotExist
	}
	runs, err := t.v.runs(f)
	if err != nil {
		return nil, err
	}
	m := &fsys.Mapped{R: t.v.r, Length: f.length}
	at := int64(0)
	for _, r := range runs {
		if n := min(r.Len(), f.valid-at); n > 0 {
			m.Places = append(m.Places, fsys.Stretch{Span: span.At(at, n), At: r.Start})
		}
		at += r.Len()
	}
	if at < f.length {
		return nil, fsys.Contradiction(f.at, "its clusters end after %d of %d bytes", at, f.length)
	}
	return m, nil
}

func (t tree) More(it fsys.Item) (fsys.More, error) {
	if f, ok := it.Ref.(file); ok && !f.sound && f.at != 0 {
		return fsys.More{Remark: "the checksum of its entries is wrong, so what they say may be too"}, nil
	}
	return fsys.More{}, nil
}

// item describes a file. Its first cluster stands for its identity, since a file keeps it when it is renamed.
func item(name string, f file, when times) fsys.Item {
	it := fsys.Item{Name: name, ID: uint64(f.first), Mode: 0o644, Modified: when.modified, Created: when.made,
		Accessed: when.read, Links: 1, Ref: f}
	if f.attr&attrReadOnly != 0 {
		it.Mode = 0o444
	}
	for bit, a := range map[uint16]fsys.Attr{attrReadOnly: fsys.ReadOnly, attrHidden: fsys.Hidden,
		attrSystem: fsys.System, attrArchive: fsys.Archive} {
		if f.attr&bit != 0 {
			it.Attr |= a
		}
	}
	if f.attr&attrDir != 0 {
		it.Mode |= fs.ModeDir | 0o111
	} else {
		it.Size = f.length
	}
	return it
}
