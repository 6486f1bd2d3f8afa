package apfs

import (
	"encoding/binary"
	"errors"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/testkit"
)

// TestReidentify: container, volume and snapshot get other UUIDs, also in older checkpoints, and nothing else changes.
func TestReidentify(t *testing.T) {
	testkit.Need(t, "apfsck", "blkid")
	id := [16]byte{0x11, 0x22, 3, 4, 5, 6, 0x47, 8, 0x89, 10, 11, 12, 13, 14, 15, 16}
	const want = "11220304-0506-4708-890a-0b0c0d0e0f10"
	for _, name := range []string{"ferry", "noon"} {
		d, c := opened(t, name)
		patches, err := c.Reidentify(id)
		if err != nil {
			t.Fatal(err)
		}
		o, err := disk.NewOverlay(d, patches, d.Size())
		if err != nil {
			t.Fatal(err)
		}
		p, err := Probe(o, o.Size(), 512)
		if err != nil {
			t.Fatal(err)
		}
		now := p.(*Container)
		if now.info.ID != want || now.info.Label != c.info.Label || now.xid != c.xid {
			t.Errorf("it is %+v now", now.info)
		}
		own := id
		own[0] ^= 1
		v := now.volumes[0]
		for i, s := range v.snapshots {
			old, err := v.then(s, i+1)
			if err != nil || [16]byte(old.super[volUUID:]) != own {
				t.Errorf("snapshot %d: %v", i, err)
			}
		}
		if [16]byte(v.super[volUUID:]) != own {
			t.Error("the volume has its old identity")
		}
		if content, err := fsys.Judge(t.Context(), p, o.Size()); err != nil || !content.Sound {
			t.Errorf("%v, %s", err, content.Why)
		}
		if err := now.eachSuper(func(at int64, b []byte, _ bool) {
			if [16]byte(b[superUUID:]) != id {
				t.Errorf("block %d has the old identity", at)
			}
		}); err != nil {
			t.Error(err)
		}
		if name == "ferry" {
			img := Image(t, name)
			testkit.Write(t, img, patches)
			testkit.Do(t, "apfsck", img)
			if got := testkit.Do(t, "blkid", "-p", "-o", "value", "-s", "UUID", img); got != want+"\n" {
				t.Errorf("it is known as %s", got)
			}
		}
	}
}

// TestKeepsIdentity: where keys are sealed with it, or a system is found by it, it stays, and that is said.
func TestKeepsIdentity(t *testing.T) {
	d, _ := opened(t, "ferry")
	for i, change := range []func(c *Container){
		func(c *Container) { binary.LittleEndian.PutUint64(c.super[superKeys:], 77) },
		func(c *Container) { c.volumes[0].locked = true },
		func(c *Container) { c.volumes[0].role = "system" },
		func(c *Container) { c.volumes[0].super[volGroup] = 1 },
	} {
		v, err := Probe(d, d.Size(), 512)
		if err != nil {
			t.Fatal(err)
		}
		c := v.(*Container)
		change(c)
		var cant *fsys.Cant
		if _, err := c.Reidentify([16]byte{1}); !errors.As(err, &cant) {
			t.Errorf("%d: %v", i, err)
		}
	}
}
