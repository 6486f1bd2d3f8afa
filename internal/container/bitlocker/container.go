package bitlocker

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"

	"twinshelf/internal/container"
	"twinshelf/internal/lock"
	"twinshelf/internal/signature"
	"twinshelf/internal/span"
)

// LockedError says that a volume is locked, and what would open it.
type LockedError struct{ Volume *Volume }

func (e *LockedError) Error() string { return "it is locked (" + e.Volume.Words() + ")" }

// Open opens a volume with its key, as a container with one device. Without a key it is a *LockedError, unless its key
// lies open.
func (v *Volume) Open(k *lock.Key) (container.Container, error) {
	if why := v.unsure(); why != "" {
		return nil, errors.New(why)
	}
	if k == nil {
		var err error
		if k, err = v.UnlockOpen(); err != nil {
			return nil, &LockedError{v}
		}
	}
	fvek, err := v.sectorKey(k.Bytes())
	if err != nil { // it was encrypted anew since
		return nil, &LockedError{v}
	}
	defer clear(fvek)
	s, err := newSectors(v.Cipher, fvek, v.sector)
	if err != nil {
		return nil, err
	}
	m, err := v.layout()
	if err != nil {
		return nil, err
	}
	return &opened{v, s, m, sha256.Sum256(fvek)}, nil
}

// unsure says why what lies on the volume can't be told even with its key; empty when it can.
func (v *Volume) unsure() string {
	switch {
	case !v.Cipher.Known():
		return v.Cipher.String()
	case v.differ:
		return "the copies of its metadata contradict each other"
	case v.onWrite || v.State == ConvertOnWrite:
		return "it is being encrypted or decrypted, and how far that is can't be told"
	case v.State == Encrypted:
		return ""
	case v.State == Converting || v.State == Paused:
		if v.Form == Vista {
			return "it is being encrypted or decrypted by Windows Vista"
		}
		return ""
	}
	return fmt.Sprintf("its state %d isn't known", v.State)
}

// layout is where the bytes of the open volume lie: its start is kept elsewhere, the rest in its place.
func (v *Volume) layout() (*container.Map, error) {
	var all []container.Segment
	add := func(inner span.Span, off int64) {
		if !inner.Empty() {
			all = append(all, container.Segment{Inner: inner, Places: []container.Place{{Off: off}}})
		}
	}
	size := v.size / v.sector * v.sector
	add(span.At(0, v.header), v.backup)
	add(span.Span{Start: v.header, End: size}, v.header)
	return container.NewMap(all)
}

// Kind is what kind of volume it is, in words.
func (v *Volume) Kind() string {
	if v.Form == ToGo {
		return signature.EncryptedKind(signature.BitLockerToGo)
	}
	return signature.EncryptedKind(signature.BitLocker)
}

// opened is a volume whose key is known.
type opened struct {
	v *Volume
	s *sectors
	m *container.Map
	// seal tells the key of the sectors from others.
	seal [sha256.Size]byte
}

func (o *opened) Head(int) container.Head {
	return container.Head{Kind: o.v.Kind(), Name: o.v.Label, ID: o.v.ID, Unit: o.v.sector, Members: 1}
}

func (o *opened) Devices() []container.Device {
	d := container.Device{Name: "unlocked", Sole: true, ID: o.v.ID, Size: o.m.Size(), Map: o.m, Sectors: o,
		Fixed: "it lies enciphered"}
	if o.v.State != Encrypted {
		d.Doubt = "it is half-way through being encrypted or decrypted"
	}
	return []container.Device{d}
}

// Same says whether sectors are enciphered alike, so that equal plain bytes in one place lie equal on the disk.
func (o *opened) Same(other container.Sectors) bool {
	x, ok := other.(*opened)
	return ok && x.seal == o.seal && x.v.Cipher == o.v.Cipher && x.v.sector == o.v.sector && o.v.State == Encrypted &&
		x.v.State == Encrypted
}

// Own is what tells of the volume: its start, the copies of its metadata, and where its own start is kept. Beyond its
// last whole sector nothing is deciphered.
func (o *opened) Own(int) span.Set {
	own := span.Of(o.v.areas...)
	own.Add(span.At(0, max(o.v.header, vistaPlain)))
	own.Add(span.Span{Start: o.m.Size(), End: o.v.size})
	return own
}

func (o *opened) SectorSize() int64 { return o.v.sector }

// Plain deciphers sectors. Where metadata lie, zeros are seen; Vista leaves the first sectors as they are, but for what
// it changed in the very first one.
func (o *opened) Plain(b []byte, inner, outer int64) {
	for ; len(b) > 0; b, inner, outer = b[o.v.sector:], inner+o.v.sector, outer+o.v.sector {
		p := b[:o.v.sector]
		switch {
		case o.hidden(inner):
			clear(p)
		case o.v.Form == Vista && inner < vistaPlain:
			if inner == 0 {
				copy(p[headSign:], ntfsSign)
				binary.LittleEndian.PutUint64(p[headVista:], o.v.vista.mirror)
			}
		case o.v.State != Encrypted && outer >= o.v.done:
		default:
			o.s.open(p, outer)
		}
	}
}

// Seal enciphers sectors that lie in their own place, of a volume that is wholly encrypted.
func (o *opened) Seal(b []byte, inner, outer int64) error {
	unit := o.v.sector
	if o.v.State != Encrypted || inner != outer || inner%unit != 0 || int64(len(b))%unit != 0 ||
		o.v.Form == Vista && inner < vistaPlain {
		return fmt.Errorf("what lies at byte %d isn't enciphered as the rest is", outer)
	}
	for at := int64(0); at < int64(len(b)); at += unit {
		if o.hidden(inner + at) {
			return fmt.Errorf("metadata lie at byte %d", outer+at)
		}
	}
	o.s.seal(b, outer)
	return nil
}

// hidden says whether a byte of the open volume is one of the places that hold metadata.
func (o *opened) hidden(inner int64) bool {
	for _, a := range o.v.areas {
		if inner >= a.Start && inner < a.End {
			return true
		}
	}
	return false
}
