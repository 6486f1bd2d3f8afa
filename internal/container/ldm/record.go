package ldm

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
)

// fields reads one after the other what a record is made of. The first that isn't there ends it.
type fields struct {
	b   []byte
	err error
}

// take gives the next n bytes; zeros once the record has ended.
func (f *fields) take(n int) []byte {
	if f.err == nil && n > len(f.b) {
		f.err = errors.New("it ends too early")
	}
	if f.err != nil {
		return make([]byte, n)
	}
	out := f.b[:n]
	f.b = f.b[n:]
	return out
}

// counted is a field that begins with its length in bytes.
func (f *fields) counted() []byte { return f.take(int(f.take(1)[0])) }

func (f *fields) text() string { return string(f.counted()) }

// number is a counted field of up to eight bytes.
func (f *fields) number() uint64 {
	b := f.counted()
	if len(b) > 8 {
		f.err = fmt.Errorf("a number of %d bytes", len(b))
		return 0
	}
	var n uint64
	for _, c := range b {
		n = n<<8 | uint64(c)
	}
	return n
}

// sectors is a number of sectors.
func (f *fields) sectors(n uint64) int64 {
	if n > maxSectors && f.err == nil {
		f.err = fmt.Errorf("%d sectors", n)
	}
	return int64(n)
}

func (f *fields) long() int64 { return f.sectors(binary.BigEndian.Uint64(f.take(8))) }

// volume is what people see as a drive.
type volume struct {
	id       uint64
	name     string
	guid     string
	state    string
	children uint64
	size     int64 // sectors
	hint     string
}

// component is how a volume lies, or one of its mirrors.
type component struct {
	id       uint64
	name     string
	state    string
	layout   byte
	children uint64
	volume   uint64
	stripe   int64 // sectors
	columns  uint64
}

// partition is a stretch of a disk.
type partition struct {
	id        uint64
	name      string
	start     int64 // sectors, from the start of the disk's area for volumes
	offset    int64 // sectors of the component
	size      int64 // sectors
	component uint64
	disk      uint64
	column    uint64
}

// member is a disk of the group.
type member struct {
	id   uint64
	name string
	guid string
}

// objects are all that the records describe.
type objects struct {
	volumes    []volume
	components []component
	partitions []partition
	disks      []member
}

// add takes a record's bytes apart.
func (o *objects) add(b []byte) error {
	if len(b) < recBody {
		return errors.New("a record without a head")
	}
	length := binary.BigEndian.Uint32(b[recLength:])
	if int64(length) > int64(len(b)-recBody) {
		return fmt.Errorf("a record of %d bytes in %d", length, len(b)-recBody)
	}
	f := &fields{b: b[recBody:][:length]}
	kind, flags := b[recKind], b[recFlags]
	id, name := f.number(), f.text()
	switch kind {
	case kindVolume:
		o.volumes = append(o.volumes, f.volume(id, name, flags))
	case kindComponent:
		o.components = append(o.components, f.component(id, name, flags))
	case kindPartition:
		o.partitions = append(o.partitions, f.partition(id, name, flags))
	case kindDisk:
		o.disks = append(o.disks, member{id, name, strings.ToUpper(f.text())})
	case kindDisk2:
		o.disks = append(o.disks, member{id, name, guid(f.take(16))})
	case kindGroup, kindGroup2: // the head names the group
	default:
		return fmt.Errorf("a record of a kind that isn't known (%#02x)", kind)
	}
	if f.err != nil {
		return fmt.Errorf("the record of %q: %w", name, f.err)
	}
	return nil
}

func (f *fields) volume(id uint64, name string, flags byte) volume {
	v := volume{id: id, name: name}
	f.text() // gen or raid5
	f.text()
	v.state = strings.TrimRight(string(f.take(14)), "\x00")
	f.take(7) // type, number and flags
	v.children = f.number()
	f.take(16)
	v.size = f.sectors(f.number())
	f.take(5) // the part's type
	v.guid = guid(f.take(16))
	for _, flag := range []byte{flagID1, flagID2, flagSize2} {
		if flags&flag != 0 {
			f.counted()
		}
	}
	if flags&flagHint != 0 {
		v.hint = f.text()
	}
	return v
}

func (f *fields) component(id uint64, name string, flags byte) component {
	c := component{id: id, name: name, state: f.text(), layout: f.take(1)[0]}
	f.take(4)
	c.children = f.number()
	f.take(16)
	c.volume = f.number()
	f.take(1)
	if flags&flagStripes != 0 {
		c.stripe, c.columns = f.sectors(f.number()), f.number()
	}
	return c
}

func (f *fields) partition(id uint64, name string, flags byte) partition {
	p := partition{id: id, name: name}
	f.take(12)
	p.start, p.offset = f.long(), f.long()
	p.size = f.sectors(f.number())
	p.component, p.disk = f.number(), f.number()
	if flags&flagIndex != 0 {
		p.column = f.number()
	}
	return p
}

// guid is a GUID as text; in records its numbers lie as they are written.
func guid(b []byte) string {
	return fmt.Sprintf("%X-%X-%X-%X-%X", b[:4], b[4:6], b[6:8], b[8:10], b[10:16])
}
