package apfs

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"time"

	"golang.org/x/crypto/xts"

	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

// volume is one of the container's volumes, at a transaction.
type volume struct {
	c       *Container
	at      int64  // block of its superblock
	number  uint64 // another one for each volume and snapshot
	super   []byte
	name    string
	role    string
	xid     uint64
	objects *objects
	// locked says that it is encrypted; sealed that its files' extents are in a tree of their own.
	locked, sealed    bool
	cipher            *xts.Cipher // of an encrypted volume whose key is known
	anyCase           bool
	extentsPhysical   bool
	snapshotsPhysical bool
	snapshots         []snapshot
}

// snapshot is an earlier state of a volume.
type snapshot struct {
	xid     uint64
	extents int64 // block of its tree of extents
	super   int64 // block of its volume superblock
	made    time.Time
	name    string
}

// roles are what volumes are for (Volumes, Volume Roles).
var roles = map[uint16]string{1: "system", 2: "user", 4: "recovery", 8: "memory swapped out", 0x10: "start-up",
	0x20: "installer", 0x40: "data", 0x80: "baseband", 0xC0: "update", 0x100: "XART", 0x140: "hardware",
	0x180: "backup"}

// openVolume opens the newest state of a volume.
func (c *Container) openVolume(oid uint64) (*volume, error) {
	p, err := c.objects.find(oid, c.xid)
	if err != nil {
		return nil, err
	}
	v, err := c.volumeAt(p.at, c.xid)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if v.objects, err = c.openMap(c.address(le.Uint64(v.super[volMap:]))); err != nil {
		return nil, fmt.Errorf("object map: %w", err)
	}
	if err := v.readSnapshots(); err != nil {
		return nil, fmt.Errorf("snapshots: %w", err)
	}
	return v, nil
}

// volumeAt reads the superblock of a volume.
func (c *Container) volumeAt(at int64, xid uint64) (*volume, error) {
	b, err := c.object(at, typeVolume)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if string(b[volMagic:volMagic+4]) != magicVolume {
		return nil, fsys.Contradiction(at*c.unit, "there is no volume where one should be")
	}
	name, _, _ := bytes.Cut(b[volName:volName+volNameLen], []byte{0})
	incompat := le.Uint64(b[volIncompat:])
	physical := func(kind int) bool { return le.Uint32(b[kind:])&storageMask == storagePhysical }
	return &volume{c: c, at: at, super: b, xid: xid, name: string(name), role: roles[le.Uint16(b[volRole:])],
		locked: le.Uint64(b[volFlags:])&volUnencrypted == 0, sealed: incompat&volSealed != 0,
		anyCase:         incompat&volAnyCase != 0,
		extentsPhysical: physical(volExtentsKind), snapshotsPhysical: physical(volSnapKind)}, nil
}

// mostSnapshots bounds those of a volume.
const mostSnapshots = 1 << 16

// readSnapshots lists the volume's snapshots (Snapshots).
func (v *volume) readSnapshots() error {
	le := binary.LittleEndian
	t, err := v.physical(volSnapshots, v.snapshotsPhysical)
	if err != nil || t == nil {
		return err
	}
	return t.all(func(key, value []byte) error {
		head := le.Uint64(key)
		if head>>keyKind != recSnapshot {
			return nil
		}
		if len(value) < snapName {
			return fmt.Errorf("a snapshot is described in %d bytes", len(value))
		}
		n := min(int(le.Uint16(value[snapNameLen:])), len(value)-snapName)
		name, _, _ := bytes.Cut(value[snapName:snapName+n], []byte{0})
		v.snapshots = append(v.snapshots, snapshot{xid: head & keyIDMask,
			extents: v.c.address(le.Uint64(value[snapExtents:])),
			super:   v.c.address(le.Uint64(value[snapVolume:])),
			made:    time.Unix(0, int64(le.Uint64(value[snapMade:]))), name: units.Visible(string(name))})
		if len(v.snapshots) > mostSnapshots {
			return fmt.Errorf("there are more than %d", mostSnapshots)
		}
		return nil
	})
}

// physical is one of the trees whose nodes are named by their blocks; nil where the volume has none.
func (v *volume) physical(field int, is bool) (*btree, error) {
	at := v.c.address(binary.LittleEndian.Uint64(v.super[field:]))
	if at == 0 {
		return nil, nil
	}
	if !is {
		return nil, fsys.Contradiction(v.at*v.c.unit, "a tree isn't kept as it is known here")
	}
	return &btree{c: v.c, root: at}, nil
}

// then is the volume as it was at its n-th snapshot, counted from 1.
func (v *volume) then(s snapshot, n int) (*volume, error) {
	old, err := v.c.volumeAt(s.super, s.xid)
	if err != nil {
		return nil, err
	}
	old.objects, old.locked, old.number = v.objects, old.locked || v.locked, v.number+uint64(n)
	if v.cipher != nil {
		old.cipher, old.locked = v.cipher, false
	}
	return old, nil
}

// files is the tree of the volume's folders and files.
func (v *volume) files() (*btree, error) {
	if v.locked {
		return nil, &fsys.Unreadable{Why: "the volume is encrypted"}
	}
	where := func(oid uint64) (int64, error) {
		p, err := v.objects.find(oid, v.xid)
		if err == nil && p.flags&mapIsEncrypted != 0 && v.cipher == nil {
			err = &fsys.Unreadable{Why: "the volume is encrypted"}
		}
		return p.at, err
	}
	root, err := where(binary.LittleEndian.Uint64(v.super[volRoot:]))
	if err != nil {
		return nil, err
	}
	t := &btree{c: v.c, root: root, where: where}
	if v.cipher != nil {
		t.read = v.node
	}
	return t, nil
}
