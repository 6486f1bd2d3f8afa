package apfs

import (
	"crypto/aes"
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"testing"

	"golang.org/x/crypto/xts"

	"twinshelf/internal/disk"
)

// Sealed gives what makes an encrypted container of one that isn't: nodes and contents are enciphered, and a bag has
// the volume's key, for a password and a recovery key. No program here writes such containers. Another one that reads
// them, libfsapfs, found the same files in these with the same secrets, by hand: as it is packaged it can't decipher.
type Sealed struct {
	t       testing.TB
	d       disk.Device
	c       *Container
	key     []byte // of the sectors
	half    bool
	blocks  map[int64][]byte
	ciphers *xts.Cipher
}

// shift is what tweaks are counted farther than blocks.
const shift = 7777

// Seal enciphers all of a container; half says that the keys have 128 bits.
func Seal(t testing.TB, d disk.Device, half bool, secrets ...string) []disk.Patch {
	t.Helper()
	p, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	s := &Sealed{t: t, d: d, c: p.(*Container), half: half, blocks: map[int64][]byte{}}
	le := binary.LittleEndian
	v := s.c.volumes[0]
	first := noise(1, 32)
	if s.key = first; half {
		h := sha256.Sum256(slices.Concat(first[:16], v.super[volUUID:volUUID+16]))
		s.key = slices.Concat(first[:16], h[:16])
	}
	if s.ciphers, err = xts.NewCipher(aes.NewCipher, s.key); err != nil {
		t.Fatal(err)
	}
	s.objects(v)
	supers := []int64{v.at}
	for _, x := range v.snapshots {
		supers = append(supers, x.super)
	}
	for _, at := range supers {
		s.change(at, func(b []byte) {
			le.PutUint64(b[volFlags:], le.Uint64(b[volFlags:])&^volUnencrypted|volOneKey)
		})
	}
	bags := s.take(2)
	uuid := [16]byte(v.super[volUUID:])
	where := le.AppendUint64(le.AppendUint64(nil, uint64(bags+1)), 1)
	kek := noise(2, 32)
	s.bag(bags, s.c.super[superUUID:superUUID+16], bagOfContainer,
		bagEntry{uuid, tagVolumeKey, s.blob(uuid[:], kek, first, nil)}, bagEntry{uuid, tagUnlocking, where})
	var all []bagEntry
	for i, secret := range secrets {
		salt := noise(byte(10+i), 16)
		typed, err := pbkdf2.Key(sha256.New, secret, salt, 3000, s.keyLen())
		if err != nil {
			t.Fatal(err)
		}
		id := [16]byte{0xEB, 0xC6, byte(i)}
		all = append(all, bagEntry{id, tagUnlocking, s.blob(id[:], typed, kek, salt)})
	}
	all = append(all, bagEntry{uuid, tagHint, []byte("the ferry's name")})
	s.bag(bags+1, uuid[:], bagOfVolume, all...)
	if err := s.c.eachSuper(func(at int64, b []byte, _ bool) {
		le.PutUint64(b[superFlags:], le.Uint64(b[superFlags:])|softwareCrypto)
		le.PutUint64(b[superKeys:], uint64(bags))
		le.PutUint64(b[superKeys+8:], 1)
		le.PutUint64(b, sum(b))
		s.blocks[at] = b
	}); err != nil {
		t.Fatal(err)
	}
	var out []disk.Patch
	for at, b := range s.blocks {
		out = append(out, disk.Patch{Off: at * minBlock, Data: b})
	}
	if out, err = disk.SortPatches(out, d.Size()); err != nil {
		t.Fatal(err)
	}
	return out
}

func (s *Sealed) keyLen() int { return sealedKey{half: s.half}.keyLen() }

// change changes an object that isn't enciphered.
func (s *Sealed) change(at int64, do func(b []byte)) {
	s.t.Helper()
	b, err := s.c.block(at)
	if err != nil {
		s.t.Fatal(err)
	}
	do(b)
	binary.LittleEndian.PutUint64(b, sum(b))
	s.blocks[at] = b
}

// take marks free blocks that lie together as used, and gives the first.
func (s *Sealed) take(n int64) int64 {
	s.t.Helper()
	le := binary.LittleEndian
	for k, err := range s.c.chunks() {
		if err != nil {
			s.t.Fatal(err)
		}
		if k.bitmap == 0 {
			continue
		}
		b, err := s.c.block(k.bitmap)
		if err != nil {
			s.t.Fatal(err)
		}
		run := int64(0)
		for i := range k.blocks.count {
			if run++; b[i/8]>>(i%8)&1 == 1 {
				run = 0
			}
			if run < n {
				continue
			}
			for j := i - n + 1; j <= i; j++ {
				b[j/8] |= 1 << (j % 8)
			}
			s.blocks[k.bitmap] = b
			s.change(s.c.space.infos[0], func(b []byte) {
				e := b[listEntries+k.blocks.first/s.c.space.perChunk*chunkEntry:]
				le.PutUint32(e[chunkFree:], le.Uint32(e[chunkFree:])-uint32(n))
			})
			s.change(s.c.space.at, func(b []byte) {
				le.PutUint64(b[spaceDevice+spaceDevFree:], le.Uint64(b[spaceDevice+spaceDevFree:])-uint64(n))
			})
			return k.blocks.first + i - n + 1
		}
	}
	s.t.Fatal("there is no room for keys")
	return 0
}

// objects marks all that the volume's map names as enciphered, and enciphers it.
func (s *Sealed) objects(v *volume) {
	s.t.Helper()
	le := binary.LittleEndian
	var named []int64
	s.eachNode(v.objects.tree, func(n *node, t *btree) {
		for i := range n.keys {
			_, value, err := t.record(n, i)
			if err != nil {
				s.t.Fatal(err)
			}
			le.PutUint32(value, le.Uint32(value)|mapIsEncrypted)
			named = append(named, int64(le.Uint64(value[mapAddress:])))
		}
	})
	files := &btree{c: s.c}
	for _, at := range named {
		b, err := s.c.object(at, typeRoot, typeNode)
		if err != nil {
			s.t.Fatal(err)
		}
		above := &node{}
		if le.Uint16(b[nodeFlags:])&flagRoot != 0 {
			above = nil
		}
		n, err := files.node(at, above)
		if err != nil {
			s.t.Fatal(err)
		}
		mine := *n
		mine.b = slices.Clone(n.b)
		for i := range mine.keys {
			key, value, err := files.record(&mine, i)
			if err == nil && mine.leaf && le.Uint64(key)>>keyKind == recFile {
				s.contents(value)
			}
		}
		le.PutUint64(mine.b, sum(mine.b))
		s.seal(at, mine.b, at)
	}
}

// eachNode changes the leaves of a tree.
func (s *Sealed) eachNode(t *btree, do func(n *node, t *btree)) {
	s.t.Helper()
	var all []int64
	walk := *t
	walk.visited = func(at int64) error {
		all = append(all, at)
		return nil
	}
	if err := walk.all(func(_, _ []byte) error { return nil }); err != nil {
		s.t.Fatal(err)
	}
	root, err := t.node(t.root, nil)
	if err != nil {
		s.t.Fatal(err)
	}
	for _, at := range all {
		above := root
		if at == t.root {
			above = nil
		}
		n, err := t.node(at, above)
		if err != nil {
			s.t.Fatal(err)
		}
		mine := *n
		mine.b = slices.Clone(n.b)
		if mine.leaf {
			do(&mine, t)
		}
		binary.LittleEndian.PutUint64(mine.b, sum(mine.b))
		s.blocks[at] = mine.b
	}
}

// contents enciphers an extent, and writes its tweak.
func (s *Sealed) contents(value []byte) {
	s.t.Helper()
	le := binary.LittleEndian
	first := int64(le.Uint64(value[filePhysical:]))
	if first == 0 {
		return
	}
	le.PutUint64(value[fileCrypto:], uint64(first+shift))
	n := (int64(le.Uint64(value)&fileLenMask) + minBlock - 1) / minBlock
	for at := first; at < first+n; at++ {
		if s.blocks[at] != nil {
			continue // another date has it too
		}
		b, err := s.c.block(at)
		if err != nil {
			s.t.Fatal(err)
		}
		s.seal(at, b, at+shift)
	}
}

// seal enciphers a block.
func (s *Sealed) seal(at int64, b []byte, tweak int64) {
	encipher(s.ciphers, b, tweak*minBlock/cipherSector)
	s.blocks[at] = b
}

func encipher(x *xts.Cipher, b []byte, first int64) {
	for ; len(b) > 0; b, first = b[cipherSector:], first+1 {
		x.Encrypt(b[:cipherSector], b[:cipherSector], uint64(first))
	}
}

// bag writes a bag of keys, sealed with a UUID.
func (s *Sealed) bag(at int64, uuid []byte, kind uint32, all ...bagEntry) {
	s.t.Helper()
	le := binary.LittleEndian
	b := make([]byte, minBlock)
	le.PutUint64(b[objID:], uint64(at))
	le.PutUint64(b[objXID:], s.c.xid)
	le.PutUint32(b[objType:], kind)
	le.PutUint16(b[objHead:], 2)
	le.PutUint16(b[bagKeys:], uint16(len(all)))
	end := bagEntries
	for _, e := range all {
		copy(b[end:], e.uuid[:])
		le.PutUint16(b[end+entryTag:], e.tag)
		le.PutUint16(b[end+entryLen:], uint16(len(e.data)))
		copy(b[end+entryData:], e.data)
		end += (entryData + len(e.data) + entryAlign - 1) / entryAlign * entryAlign
	}
	le.PutUint32(b[bagKeys+2:], uint32(end-bagEntries))
	le.PutUint64(b, sum(b))
	x, err := xts.NewCipher(aes.NewCipher, slices.Concat(uuid, uuid))
	if err != nil {
		s.t.Fatal(err)
	}
	encipher(x, b, at*minBlock/cipherSector)
	s.blocks[at] = b
}

func value(tag byte, b []byte) []byte {
	if len(b) >= 0x80 {
		return append([]byte{tag, 0x81, byte(len(b))}, b...)
	}
	return append([]byte{tag, byte(len(b))}, b...)
}

// blob is a key as a bag has it.
func (s *Sealed) blob(uuid, by, key, salt []byte) []byte {
	flags := make([]byte, 8)
	if s.half {
		flags[0] = flagHalfKey
	}
	n := s.keyLen()
	inner := slices.Concat(value(0x80, []byte{0}), value(derUUID, uuid), value(derFlags, flags),
		value(derWrapped, append(wrap(by[:n], key[:n]), make([]byte, 32-n)...)))
	if salt != nil {
		inner = slices.Concat(inner, value(derIterations, []byte{0x0B, 0xB8}), value(derSalt, salt))
	}
	return value(derSequence, slices.Concat(value(0x80, []byte{0}), value(0x81, make([]byte, 32)), value(0x82,
		make([]byte, 8)), value(derBlob, inner)))
}

// wrap wraps a key in another one (RFC 3394, section 2.2.1).
func wrap(by, key []byte) []byte {
	c, err := aes.NewCipher(by)
	if err != nil {
		panic(err)
	}
	be := binary.BigEndian
	r := slices.Concat(be.AppendUint64(nil, 0xA6A6A6A6A6A6A6A6), key)
	n := len(key) / 8
	var b [16]byte
	for j := range 6 {
		for i := 1; i <= n; i++ {
			copy(b[:8], r[:8])
			copy(b[8:], r[8*i:])
			c.Encrypt(b[:], b[:])
			be.PutUint64(r, be.Uint64(b[:])^uint64(n*j+i))
			copy(r[8*i:], b[8:])
		}
	}
	return r
}

func noise(seed byte, n int) []byte {
	h := sha256.Sum256([]byte{seed})
	return h[:n]
}
