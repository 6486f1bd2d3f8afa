package lvm

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

const (
	testID    = "Qk3zXb5hW0mJr8yLd2TfVn7sGc4pAu1e"
	testSize  = 4 << 20
	testStart = 64 << 10
	testMDA   = 8 << 10
)

// description is a group with two logical volumes, in extents of 64 KiB.
func description(more string) string {
	return `kiosk {
id = "aaaaaa-bbbb-cccc-dddd-eeee-ffff-gggggg"
seqno = 7
status = ["RESIZEABLE", "READ", "WRITE"]
extent_size = 128
physical_volumes {
pv0 {
id = "` + dashed(testID) + `"
device = "/dev/\"odd\""	# where it was
dev_size = ` + fmt.Sprint(testSize/sector) + `
pe_start = ` + fmt.Sprint(testStart/sector) + `
pe_count = 40
}
}
logical_volumes {
root {
id = "rrrrrr-bbbb-cccc-dddd-eeee-ffff-gggggg"
status = ["READ", "WRITE", "VISIBLE"]
segment_count = 2
segment1 {
start_extent = 0
extent_count = 10
type = "striped"
stripe_count = 1
stripes = ["pv0", 0]
}
segment2 {
start_extent = 10
extent_count = 5
type = "striped"
stripe_count = 1
stripes = ["pv0", 20]
}
}
` + more + `}
}
contents = "Text Format Volume Group"
version = 1
`
}

// made is a physical volume with a text at a byte of its metadata area.
func made(text string, at int64) *disk.Memory {
	m := disk.NewMemory(testSize, 512)
	write(m, text, at)
	return m
}

func write(m *disk.Memory, text string, at int64) {
	const area = 4096
	b := m.Bytes[sector : 2*sector]
	copy(b, labelMagic)
	le.PutUint64(b[labelNumber:], 1)
	le.PutUint32(b[labelOffset:], labelLen)
	copy(b[labelKind:], labelType)
	h := b[labelLen:]
	copy(h, testID)
	le.PutUint64(h[pvSize:], uint64(len(m.Bytes)))
	le.PutUint64(h[pvAreas:], testStart)
	le.PutUint64(h[pvAreas+2*areaLen:], area)
	le.PutUint64(h[pvAreas+2*areaLen+8:], testMDA)
	le.PutUint32(b[labelCRC:], checksum(b[labelOffset:]))
	a := m.Bytes[area : area+testMDA]
	clear(a)
	copy(a[mdaSign:], mdaMagic)
	le.PutUint32(a[mdaVersion:], 1)
	le.PutUint64(a[mdaStart:], area)
	le.PutUint64(a[mdaSize:], testMDA)
	slot := a[mdaSlots:]
	le.PutUint64(slot[slotOffset:], uint64(at))
	le.PutUint64(slot[slotSize:], uint64(len(text)))
	le.PutUint32(slot[slotCRC:], checksum([]byte(text)))
	le.PutUint32(a[mdaCRC:], checksum(a[mdaSign:mdaLen]))
	copy(a[mdaLen:], text[copy(a[at:], text):])
}

func member(m *disk.Memory) container.Member { return container.Member{R: m, Size: m.Size()} }

// TestTextGoesRound: a text that goes on at the start of its area is read, and so is the one that a growth writes,
// wherever that begins.
func TestTextGoesRound(t *testing.T) {
	text := description("")
	for at := int64(mdaLen); at < testMDA; at += sector {
		m := made(text, at)
		g, _, err := Open(member(m))
		if err != nil {
			t.Fatalf("at %d: %v", at, err)
		}
		const size = 2 * testSize
		growth, err := g.Grow(0, size, 0)
		if err != nil {
			t.Fatal(err)
		}
		patches, err := disk.SortPatches(growth.Patches, size)
		if err != nil {
			t.Fatal(err)
		}
		larger := disk.NewMemory(size, 512)
		copy(larger.Bytes, m.Bytes)
		for _, p := range patches {
			copy(larger.Bytes[p.Off:], p.Data)
		}
		now, _, err := Open(member(larger))
		if err != nil {
			t.Fatalf("grown, at %d: %v", at, err)
		}
		more := int64(size-testStart)/g.extent - 40
		if now.seq != 8 || now.physicals[0].count != 40+more || now.logicals[0].extents != 15+more {
			t.Errorf("at %d: %+v", at, now.logicals[0])
		}
		if now.logicals[0].Map.Size() != growth.Map.Size() || growth.Device != growth.Map.Size() {
			t.Errorf("the map has %d bytes, and %d were planned", now.logicals[0].Map.Size(), growth.Map.Size())
		}
		// The label and the rest of the text are as they were.
		if !strings.Contains(string(now.text), `device = "/dev/\"odd\""	# where it was`) {
			t.Error("other parts of the text changed")
		}
	}
}

// volumeText is one more logical volume.
func volumeText(name, status, segment string) string {
	return name + " {\nid = \"x\"\nstatus = [" + status + "]\nsegment_count = 1\nsegment1 {\nstart_extent = 0\n" +
		segment + "\n}\n}\n"
}

const seen = `"READ", "VISIBLE"`

// TestSealed: what others depend on, or is a share of others, isn't looked into, and all that it takes is its group's
// own.
func TestSealed(t *testing.T) {
	linear := "extent_count = 3\ntype = \"striped\"\nstripe_count = 1\nstripes = [\"pv0\", 30]"
	for name, c := range map[string]struct {
		more   string
		sealed map[string]bool
		own    span.Span // that isn't free
	}{
		"a share of another": {volumeText("part", `"READ"`, linear), map[string]bool{"kiosk/part": true}, span.Span{}},
		"origin of a snapshot": {volumeText("snap", seen, linear) + volumeText("snapshot0", seen,
			"extent_count = 15\ntype = \"snapshot\"\norigin = \"root\"\ncow_store = \"snap\""),
			map[string]bool{"kiosk/root": true, "kiosk/snap": true, "kiosk/snapshot0": true}, span.Span{}},
		"pool": {volumeText("pool", seen, "extent_count = 3\ntype = \"thin-pool\"\nmetadata = \"tmeta\"\npool = "+
			"\"tdata\"") +
			volumeText("tdata", `"READ"`, linear), map[string]bool{"kiosk/pool": true, "kiosk/tdata": true},
			span.Span{}},
	} {
		g, _, err := Open(member(made(description(c.more), mdaLen)))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		for _, d := range g.Devices() {
			if (d.Sealed != "") != c.sealed[d.Name] {
				t.Errorf("%s: %s is sealed: %q", name, d.Name, d.Sealed)
			}
		}
	}
}

// TestContradictions: a description that contradicts itself isn't believed, and says why.
func TestContradictions(t *testing.T) {
	text := description("")
	for says, change := range map[string][2]string{
		"taken already":      {`"pv0", 20`, `"pv0", 5`},
		"which has 40":       {`"pv0", 20`, `"pv0", 36`},
		"isn't listed":       {`"pv0", 20`, `"pv1", 20`},
		"begins at extent":   {"start_extent = 10", "start_extent = 11"},
		"and says 3":         {"segment_count = 2", "segment_count = 3"},
		"beyond its end":     {"pe_count = 40", "pe_count = 4000"},
		"lies among":         {fmt.Sprint("pe_start = ", testStart/sector), "pe_start = 8"},
		"doesn't list":       {dashed(testID), dashed(strings.Repeat("x", 32))},
		"extents of":         {"extent_size = 128", "extent_size = 0"},
		"\"..\" can't be":    {"root {", ".. {"},
		"\"a/b\" can't be":   {"root {", "a/b {"},
		"\"..\" can't be th": {"kiosk {", ".. {"},
		"no number seqno":    {"seqno = 7", "seqno = \"7\""},
		"is there twice":     {"seqno = 7", "seqno = 7\nseqno = 8"},
		"closes nothing":     {"contents =", "}\ncontents ="},
		"doesn't end":        {"contents = \"Text Format Volume Group\"\n", "x {"},
		"in a way that isn't": {"type = \"striped\"\nstripe_count = 1\nstripes = [\"pv0\", 20]",
			"type = \"new\"\nx = [\"pv0\", 20]"},
	} {
		if !strings.Contains(text, change[0]) {
			t.Fatalf("%q isn't in the description", change[0])
		}
		_, _, err := Open(member(made(strings.Replace(text, change[0], change[1], 1), mdaLen)))
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
}

// FuzzOpen: whatever the text and the structures say, nothing panics, and what is believed adds up.
func FuzzOpen(f *testing.F) {
	f.Add([]byte(description("")), uint16(mdaLen), uint16(0), byte(0))
	f.Add([]byte(description(volumeText("part", seen, "extent_count = 3\ntype = \"striped\"\nstripe_count = 3\n"+
		"stripe_size = 8\nstripes = [\"pv0\", 30, \"pv0\", 33, \"pv0\", 36]"))), uint16(600), uint16(540), byte(3))
	f.Fuzz(func(t *testing.T, text []byte, at, hurt uint16, with byte) {
		if len(text) > testMDA-mdaLen || at < mdaLen || at >= testMDA {
			return
		}
		m := made(string(text), int64(at))
		m.Bytes[hurt] ^= with
		// The sums are made right again, so that what lies after them is reached.
		le.PutUint32(m.Bytes[sector+labelCRC:], checksum(m.Bytes[sector+labelOffset:2*sector]))
		le.PutUint32(m.Bytes[4096:], checksum(m.Bytes[4096+mdaSign:4096+mdaLen]))
		g, _, err := Open(member(m))
		if err != nil {
			return
		}
		own := g.Own(0)
		var taken span.Set
		for i, d := range g.Devices() {
			if d.Map == nil {
				continue
			}
			var on span.Set
			d.Map.On(0, span.Span{End: d.Size}, &on)
			if on.Total() != d.Size || !on.Intersect(own).Empty() || !on.Intersect(taken).Empty() ||
				on.Bounds().End > m.Size() {
				t.Fatalf("%s lies on %v, the group's own is %v", d.Name, on, own)
			}
			taken = taken.Union(on)
			_, _ = g.Grow(0, 2*m.Size(), i)
		}
	})
}

// TestMemberWithoutMetadata is only known together with one that has some.
func TestMemberWithoutMetadata(t *testing.T) {
	m := made(description(""), mdaLen)
	le.PutUint64(m.Bytes[4096+mdaSlots:], 0)
	le.PutUint32(m.Bytes[4096:], checksum(m.Bytes[4096+mdaSign:4096+mdaLen]))
	if _, _, err := Open(member(m)); err == nil || !strings.Contains(err.Error(), "no metadata") {
		t.Errorf("%v", err)
	}
	other := disk.NewMemory(testSize, 512)
	if _, _, err := Open(member(m), member(other)); err == nil {
		t.Error("a blank member tells of the group")
	}
	if _, _, err := Open(member(other)); err == nil || bytes.Equal(other.Bytes, m.Bytes) {
		t.Error("a blank member is a group")
	}
}
