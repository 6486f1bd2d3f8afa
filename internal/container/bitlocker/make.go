package bitlocker

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"iter"
	"time"
	"unicode/utf16"

	"twinshelf/internal/span"
)

// Making is how a volume is made that is encrypted, for stand-in disks and tests: no customer's disk is encrypted here.
type Making struct {
	Form   Form
	Cipher Cipher
	Sector int64
	Label  string
	When   time.Time
	// What opens it: 48 digits, a password, and a key that lies open. Any of them may be missing.
	Recovery string
	Password string
	Open     bool
	// State is Encrypted unless it says otherwise; Done is how far it is enciphered then.
	State State
	Done  int64
	// Areas are where the copies of the metadata lie and after them the start that is kept: 4 places of 64 KiB of the
	// plain volume that hold nothing.
	Areas [copies + 1]int64
	// Random is where keys come from.
	Random io.Reader
}

// Made is a volume that was made: its ID, the IDs of its protectors, and a start-up key file that opens it.
type Made struct {
	ID, RecoveryID string
	KeyFile        []byte
}

// maker gathers what is made.
type maker struct {
	Making
	plain   io.ReaderAt
	size    int64
	vmk     []byte
	fvek    []byte
	nonce   uint32
	made    Made
	failure error
}

func (m *maker) random(n int) []byte {
	b := make([]byte, n)
	if _, err := io.ReadFull(m.Random, b); err != nil && m.failure == nil {
		m.failure = err
	}
	return b
}

// Make writes an encrypted volume of a plain one: of that what is used is enciphered, the rest stays as it is in out.
func Make(ctx context.Context, plain io.ReaderAt, size int64, used iter.Seq[span.Span], o Making,
	out io.WriterAt) (*Made, error) {
	if o.State == 0 {
		o.State = Encrypted
	}
	if o.State == Encrypted {
		o.Done = size
	}
	m := &maker{Making: o, plain: plain, size: size}
	m.vmk, m.fvek = m.random(keyLen), m.random(max(o.Cipher.keyLen(), 16))
	head := make([]byte, vistaPlain)
	if _, err := plain.ReadAt(head, 0); err != nil {
		return nil, err
	}
	block := m.block(m.entries(ctx), head)
	if m.failure != nil {
		return nil, m.failure
	}
	s, err := newSectors(o.Cipher, m.fvek, o.Sector)
	if err != nil {
		return nil, err
	}
	for sp := range used {
		if err := m.encipher(s, sp, out); err != nil {
			return nil, err
		}
	}
	for _, at := range o.Areas[:copies] {
		if _, err := out.WriteAt(block, at); err != nil {
			return nil, err
		}
	}
	return &m.made, m.start(s, head, out)
}

// encipher writes a stretch of the volume.
func (m *maker) encipher(s *sectors, sp span.Span, out io.WriterAt) error {
	const piece = 1 << 20
	sp = span.Span{Start: sp.Start / m.Sector * m.Sector, End: min(m.size, (sp.End+m.Sector-1)/m.Sector*m.Sector)}
	b := make([]byte, piece)
	for at := sp.Start; at < sp.End; at += piece {
		p := b[:min(piece, sp.End-at)]
		if _, err := m.plain.ReadAt(p, at); err != nil {
			return err
		}
		if n := min(int64(len(p)), max(0, m.Done-at)) / m.Sector * m.Sector; n > 0 {
			s.seal(p[:n], at)
		}
		if _, err := out.WriteAt(p, at); err != nil {
			return err
		}
	}
	return nil
}

// start writes the first sectors: what the plain volume has there is kept elsewhere.
func (m *maker) start(s *sectors, head []byte, out io.WriterAt) error {
	first := bytes.Clone(head[:m.Sector])
	at := headBlocks
	switch m.Form {
	case Vista:
		cluster := uint64(first[headCluster]) * uint64(m.Sector)
		binary.LittleEndian.PutUint64(first[headVista:], uint64(m.Areas[0])/cluster)
		copy(first[headSign:], fveMagic)
		_, err := out.WriteAt(append(first, head[m.Sector:]...), 0)
		return err
	case ToGo:
		at = headToGoAt
		copy(first, "\xEB\x58\x90MSWIN4.1")
		copy(first[headToGo:], guidBDE)
	default:
		copy(first, "\xEB\x58\x90"+fveMagic)
		clear(first[headCluster+1 : headGUID]) // it looks like the head of a FAT32 that has no size
		copy(first[headMedia:], "\xF8")
		copy(first[headFAT:], "NO NAME    FAT32   ")
		copy(first[headGUID:], guidBDE)
	}
	for i, off := range m.Areas[:copies] {
		binary.LittleEndian.PutUint64(first[at+8*i:], uint64(off))
	}
	kept := bytes.Clone(head)
	if m.Areas[copies] < m.Done {
		s.seal(kept, m.Areas[copies])
	}
	if _, err := out.WriteAt(kept, m.Areas[copies]); err != nil {
		return err
	}
	_, err := out.WriteAt(first, 0)
	return err
}

// block is a copy of the metadata.
func (m *maker) block(list, head []byte) []byte {
	b := make([]byte, blockLen+setLen)
	copy(b, fveMagic)
	le.PutUint16(b[blockState:], uint16(m.State))
	le.PutUint16(b[blockNext:], uint16(m.State))
	le.PutUint64(b[blockVolume:], uint64(m.Done))
	for i, at := range m.Areas[:copies] {
		le.PutUint64(b[blockCopies+8*i:], uint64(at))
	}
	set := b[blockLen:]
	le.PutUint32(set[setSize:], uint32(setLen+len(list)))
	le.PutUint32(set[4:], 1)
	le.PutUint32(set[8:], setLen)
	le.PutUint32(set[12:], uint32(setLen+len(list)))
	id := m.random(guidLen)
	copy(set[setGUID:], id)
	m.made.ID = guid(id)
	le.PutUint32(set[32:], m.nonce+1)
	le.PutUint16(set[setCipher:], uint16(m.Cipher))
	le.PutUint64(set[setMade:], fileTime(m.When))
	b = append(b, list...)
	for len(b)%16 != 0 {
		b = append(b, 0)
	}
	if m.Form == Vista {
		le.PutUint16(b[blockSize:], uint16(len(b)))
		le.PutUint16(b[blockVersion:], 1)
		copy(b[blockBackup:], head[headVista:headVista+8])
	} else {
		le.PutUint16(b[blockSize:], uint16(len(b)/16))
		le.PutUint16(b[blockVersion:], 2)
		le.PutUint32(b[blockHeader:], uint32(vistaPlain/m.Sector))
		le.PutUint64(b[blockBackup:], uint64(m.Areas[copies]))
	}
	sum := crc32.ChecksumIEEE(b)
	check := make([]byte, checkLen)
	le.PutUint16(check, checkLen)
	le.PutUint16(check[2:], le.Uint16(b[blockVersion:]))
	le.PutUint32(check[checkCRC:], sum)
	long := metadataLen
	if m.Form == Vista {
		long = vistaMetadata
	}
	return append(append(b, check...), make([]byte, long-len(b)-checkLen)...)
}

// entries are those of the metadata.
func (m *maker) entries(ctx context.Context) []byte {
	list := newEntry(typeDescription, valueText, append(units16(m.Label), 0, 0))
	add := func(kind Kind, more []byte) string {
		b := m.random(guidLen)
		id := guid(b)
		b = le.AppendUint64(b, fileTime(m.When))
		b = le.AppendUint16(b, 0)
		b = le.AppendUint16(b, uint16(kind))
		list = append(list, newEntry(typeVMK, valueVMK, append(b, more...))...)
		return id
	}
	if m.Recovery != "" {
		key, whole, err := Groups(m.Recovery)
		if err == nil && !whole {
			err = errors.New("no recovery key")
		}
		m.fail(err)
		m.made.RecoveryID = add(RecoveryKey, m.stretch(ctx, hash(key)))
	}
	if m.Password != "" {
		add(Password, m.stretch(ctx, hash(hash(units16(m.Password)))))
	}
	if m.Open {
		key := m.random(keyLen)
		add(ClearKey, append(newEntry(0, valueKey, algorithm(algOpen, key)), m.sealed(0, key, m.vmk, algVMK)...))
	}
	if m.Form != Vista {
		b := le.AppendUint64(nil, uint64(m.Areas[copies]))
		list = append(list, newEntry(typeStart, valueStart, le.AppendUint64(b, vistaPlain))...)
	}
	file := m.random(keyLen)
	add(StartupKey, m.sealed(0, file, m.vmk, algVMK))
	m.made.KeyFile = m.keyFile(list, file)
	return append(list, m.sealed(typeFVEK, m.vmk, m.fvek, uint32(m.Cipher))...)
}

// keyFile is a start-up key file of the last protector.
func (m *maker) keyFile(list, key []byte) []byte {
	all, err := entries(list)
	m.fail(err)
	if err != nil {
		return nil
	}
	ext := bytes.Clone(all[len(all)-1].raw[vmkGUID : vmkGUID+guidLen])
	ext = le.AppendUint64(ext, fileTime(m.When))
	ext = append(ext, newEntry(0, valueKey, algorithm(algExternal, key))...)
	b := newEntry(typeStartupKey, valueExternal, ext)
	set := make([]byte, setLen)
	le.PutUint32(set[setSize:], uint32(setLen+len(b)))
	le.PutUint32(set[4:], 1)
	le.PutUint32(set[8:], setLen)
	le.PutUint32(set[12:], uint32(setLen+len(b)))
	copy(set[setGUID:], ext[:guidLen])
	le.PutUint32(set[32:], 1)
	le.PutUint64(set[setMade:], fileTime(m.When))
	return append(set, b...)
}

func (m *maker) fail(err error) {
	if err != nil && m.failure == nil {
		m.failure = fmt.Errorf("an encrypted volume can't be made: %w", err)
	}
}

func fileTime(t time.Time) uint64 { return uint64(t.UnixNano()/filetimeUnit) + 116444736000000000 }

// Algorithms that values name.
const (
	algStretch  = 0x1000
	algOpen     = 0x2001
	algExternal = 0x2002
	algVMK      = 0x2003
)

// newEntry is an entry of the metadata.
func newEntry(kind, value uint16, b []byte) []byte {
	out := le.AppendUint16(nil, uint16(entryLen+len(b)))
	out = le.AppendUint16(out, kind)
	out = le.AppendUint16(out, value)
	return append(le.AppendUint16(out, 1), b...)
}

func algorithm(n uint32, key []byte) []byte { return append(le.AppendUint32(nil, n), key...) }

// units16 is a text in 16-bit units.
func units16(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = le.AppendUint16(b, u)
	}
	return b
}

func hash(b []byte) []byte {
	h := sha256.Sum256(b)
	return h[:]
}

// stretch is what a protector has that something typed opens: the salt, and the master key sealed by what that makes.
func (m *maker) stretch(ctx context.Context, h []byte) []byte {
	salt := m.random(saltLen)
	key, err := stretched(ctx, [sha256.Size]byte(h), salt)
	m.fail(err)
	inner := append(le.AppendUint32(nil, algStretch), salt...)
	inner = append(inner, m.sealed(0, m.vmk, key, algVMK)...)
	return append(newEntry(0, valueStretch, inner), m.sealed(0, key, m.vmk, algVMK)...)
}

// sealed is a key that another one seals.
func (m *maker) sealed(kind uint16, by, key []byte, alg uint32) []byte {
	m.nonce++
	nonce := le.AppendUint64(nil, fileTime(m.When))
	nonce = le.AppendUint32(nonce, m.nonce)
	mac, b, err := ccmSeal(by, nonce, newEntry(0, valueKey, algorithm(alg, key)))
	m.fail(err)
	return newEntry(kind, valueSealed, append(append(nonce, mac...), b...))
}
