package ext

import (
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// file is an inode while it is looked at.
type file struct {
	number, to int64  // its number now and afterwards
	b          []byte // as it will be
	changed    bool
	seed       uint32 // of the checksums of its blocks, afterwards
}

// files goes over every inode in use, says where what it has past the new end will be, and in directories puts new
// numbers for old.
func (s *shrinkage) files() error {
	changed := inodeRuns{packer: &s.packer}
	err := s.eachInode(func(number int64, raw []byte) error {
		if len(s.moves)+len(s.patches)+len(changed.patches) > maxChanges {
			return &fsys.Cant{Why: fmt.Sprintf("more than %d changes would be needed", maxChanges)}
		}
		f, err := s.file(number, raw)
		if err == nil && f.changed {
			changed.add(s.slot(f.to), s.sealInode(uint32(f.to), f.b))
		}
		return err
	})
	changed.end()
	s.patches = append(s.patches, changed.patches...)
	return err
}

// inodeRuns are patches of inodes: those that follow each other are one, and packed, since there may be many.
type inodeRuns struct {
	patches []disk.Patch
	off     int64
	b       []byte // the run that isn't among the patches so far
	packer  *disk.Packer
}

// inodeRun is how long a run becomes at the most, in bytes.
const inodeRun = 16 << 10

// add copies an inode that stands at a byte of the volume.
func (r *inodeRuns) add(off int64, b []byte) {
	if len(r.b) >= inodeRun || r.off+int64(len(r.b)) != off {
		r.end()
	}
	if len(r.b) == 0 {
		r.off = off
	}
	r.b = append(r.b, b...)
}

// end makes the run a patch.
func (r *inodeRuns) end() {
	if len(r.b) > 0 {
		r.patches = append(r.patches, r.packer.Patch(r.off, r.b, "inodes"))
	}
	r.b = r.b[:0]
}

// eachInode gives every inode in use, in order; its bytes hold until the next one.
func (s *shrinkage) eachInode(do func(number int64, raw []byte) error) error {
	o := s.old
	table := make([]byte, o.inodesPerGrp*o.inodeSize)
	for n := range o.groups {
		bits, limit, err := s.inodeBitmap(n)
		if err != nil {
			return err
		}
		if limit == 0 {
			continue
		}
		if err := disk.ReadFull(o.r, table[:limit*o.inodeSize], s.groups[n].inodeTable*o.blockSize); err != nil {
			return fmt.Errorf("inodes of group %d: %w", n, err)
		}
		for i := range limit {
			number := n*o.inodesPerGrp + i + 1
			if bits[i/8]&(1<<(i%8)) == 0 || number == resizeInode {
				continue
			}
			if err := do(number, table[i*o.inodeSize:(i+1)*o.inodeSize]); err != nil {
				return fmt.Errorf("inode %d: %w", number, err)
			}
		}
	}
	return nil
}

// file gives an inode as it will be, in the memory of raw.
func (s *shrinkage) file(number int64, raw []byte) (*file, error) {
	f := &file{number: number, to: number, b: raw}
	if to, ok := s.renamed[number]; ok {
		f.to, f.changed = to, true
	}
	f.seed = csum(s.seed, u32(uint32(f.to)), f.b[inoGeneration:inoGeneration+4])
	if err := s.attributes(f); err != nil {
		return nil, err
	}
	if err := s.contents(f); err != nil {
		return nil, err
	}
	if f.changed && int64(le.Uint32(s.super[sbJournalInode:])) == f.number {
		s.journal = slices.Clone(f.b)
	}
	if f.changed && s.ownBlocks(f.number) {
		return nil, &fsys.Cant{Why: "the list of files that are being deleted lies beyond that"}
	}
	return f, nil
}

// contents says where a file's contents will be, and puts new numbers into a directory.
func (s *shrinkage) contents(f *file) error {
	mode := le.Uint16(f.b[inoMode:]) & modeMask
	flags := le.Uint32(f.b[inoFlags:])
	switch {
	case f.number == badInode && !disk.IsZero(f.b[inoBlock:inoBlock+inoBlockSz]):
		return &fsys.Cant{Why: "bad blocks are marked on it"}
	case !s.hasMap(f):
	case flags&flagExtents != 0:
		if err := s.extentTree(f); err != nil {
			return err
		}
	default:
		if err := s.blockTree(f); err != nil {
			return err
		}
	}
	if mode != modeDir {
		return nil
	}
	if f.to != f.number {
		s.dirs[(f.to-1)/s.v.inodesPerGrp]++
	}
	if len(s.renamed) > 0 && flags&flagInline == 0 {
		return s.directory(f)
	}
	return nil
}

// ownBlocks says that a file's blocks carry their own places in their checksums.
func (s *shrinkage) ownBlocks(number int64) bool {
	return s.old.compat&compatOrphanFile != 0 && int64(le.Uint32(s.super[sbOrphanFile:])) == number
}

// hasMap says whether a file has a map of blocks that lead to its contents.
func (s *shrinkage) hasMap(f *file) bool {
	mode := le.Uint16(f.b[inoMode:]) & modeMask
	switch {
	case mode != modeFile && mode != modeDir && mode != modeLink && f.number >= s.firstInode():
		return false
	case mode == modeLink && s.fastLink(f):
		return false
	}
	return le.Uint32(f.b[inoFlags:])&flagInline == 0 && f.number != badInode
}

// fastLink says that a symbolic link stands in its inode.
func (s *shrinkage) fastLink(f *file) bool {
	blocks := int64(le.Uint32(f.b[inoBlocksLo:]))
	if s.attrBlock(f) != 0 {
		blocks -= s.v.blockSize / 512
	}
	return blocks <= 0
}

func (s *shrinkage) attrBlock(f *file) int64 {
	at := int64(le.Uint32(f.b[inoACLLo:]))
	if s.v.incompat&incompat64bit != 0 {
		at |= int64(le.Uint16(f.b[inoACLHi:])) << 32
	}
	return at
}

// attributes moves a file's block of extended attributes, which several files may share. Its checksum names its place.
func (s *shrinkage) attributes(f *file) error {
	at := s.attrBlock(f)
	if at < s.v.blocks {
		return nil
	}
	to, ok := s.attrs[at]
	if !ok {
		b, err := s.block(at)
		if err != nil {
			return err
		}
		runs, err := s.take(1)
		if err != nil {
			return err
		}
		if to = runs[0].Start; s.v.ro&roMetadataCsum != 0 {
			le.PutUint32(b[attrChecksum:], 0)
			le.PutUint32(b[attrChecksum:], csum(s.seed, le.AppendUint64(nil, uint64(to)), b))
		}
		s.attrs[at] = to
		s.add(to, b, "extended attributes")
	}
	le.PutUint32(f.b[inoACLLo:], uint32(to))
	if s.v.incompat&incompat64bit != 0 {
		le.PutUint16(f.b[inoACLHi:], uint16(to>>32))
	}
	f.changed = true
	return nil
}

func (s *shrinkage) block(at int64) ([]byte, error) {
	if at <= 0 || at >= s.old.blocks {
		return nil, fmt.Errorf("it points to block %d of %d", at, s.old.blocks)
	}
	if err := s.walked.step(s.old.blocks); err != nil {
		return nil, err
	}
	b := make([]byte, s.old.blockSize)
	return b, disk.ReadFull(s.old.r, b, at*s.old.blockSize)
}

// walked counts blocks of maps and directories that were read.
type walked int64

// step counts one more on a volume of so many blocks. Every one belongs to one file only, and is read a few times at
// the most.
func (w *walked) step(blocks int64) error {
	if *w++; int64(*w) > 4*blocks {
		return errors.New("the maps of its files lead in circles")
	}
	return nil
}

// extentTree moves what a file with extents has past the new end.
func (s *shrinkage) extentTree(f *file) error {
	root := f.b[inoBlock : inoBlock+inoBlockSz]
	entries, depth, err := entriesOf(root, -1)
	if err != nil {
		return err
	}
	entries, changed, err := s.extentNode(f, entries, depth)
	if err != nil {
		return err
	}
	if !changed {
		return nil
	}
	f.changed = true
	if most := (inoBlockSz - extentHeader) / extentEntry; len(entries) > most {
		if entries, depth, err = s.deeper(f, entries, depth); err != nil {
			return err
		}
	}
	putEntries(root, entries, depth)
	return nil
}

// entriesOf gives copies of the entries of a node of an extent tree.
func entriesOf(b []byte, wantDepth int) (entries [][]byte, depth int, err error) {
	entries, depth, err = splitNode(b, wantDepth)
	for i, e := range entries {
		entries[i] = slices.Clone(e)
	}
	return entries, depth, err
}

// putEntries writes entries into a node that has its header.
func putEntries(b []byte, entries [][]byte, depth int) {
	le.PutUint16(b[ehEntries:], uint16(len(entries)))
	le.PutUint16(b[ehDepth:], uint16(depth))
	clear(b[extentHeader:nodeTail(b)])
	for i, e := range entries {
		copy(b[extentHeader+i*extentEntry:], e)
	}
}

// deeper puts the entries of a full root into a block of their own.
func (s *shrinkage) deeper(f *file, entries [][]byte, depth int) ([][]byte, int, error) {
	most := int((s.v.blockSize - extentHeader) / extentEntry)
	if len(entries) > most || depth >= maxDepth {
		return nil, 0, &fsys.Cant{Why: "a file would lie in too many pieces"}
	}
	runs, err := s.take(1)
	if err != nil {
		return nil, 0, err
	}
	b := make([]byte, s.v.blockSize)
	le.PutUint16(b, extentMagic)
	le.PutUint16(b[ehMost:], uint16(most))
	putEntries(b, entries, depth)
	s.putNode(f, b, runs[0].Start)
	le.PutUint32(f.b[inoBlocksLo:], le.Uint32(f.b[inoBlocksLo:])+uint32(s.v.blockSize/512))
	index := make([]byte, extentEntry)
	copy(index[:4], entries[0][:4])
	putChild(index, runs[0].Start)
	return [][]byte{index}, depth + 1, nil
}

// putNode writes a block of an extent tree with its checksum.
func (s *shrinkage) putNode(f *file, b []byte, at int64) {
	if tail := nodeTail(b); s.v.ro&roMetadataCsum != 0 && tail+4 <= len(b) {
		le.PutUint32(b[tail:], csum(f.seed, b[:tail]))
	}
	s.nodes[at] = b
	s.add(at, b, "extents of a file")
}

// extentNode gives the entries of a node as they will be.
func (s *shrinkage) extentNode(f *file, entries [][]byte, depth int) (out [][]byte, changed bool, err error) {
	for _, e := range entries {
		if depth == 0 {
			pieces, moved, err := s.extent(e)
			if err != nil {
				return nil, false, err
			}
			out, changed = append(out, pieces...), changed || moved
			continue
		}
		at := entryChild(e)
		b, err := s.block(at)
		if err != nil {
			return nil, false, err
		}
		below, _, err := entriesOf(b, depth-1)
		if err != nil {
			return nil, false, err
		}
		below, inside, err := s.extentNode(f, below, depth-1)
		if err != nil {
			return nil, false, err
		}
		if len(below) > nodeRoom(b) {
			return nil, false, &fsys.Cant{Why: "a file would lie in too many pieces"}
		}
		to := at
		if at >= s.v.blocks {
			runs, err := s.take(1)
			if err != nil {
				return nil, false, err
			}
			to, changed = runs[0].Start, true
			putChild(e, to)
		}
		if to != at || inside || f.to != f.number {
			putEntries(b, below, depth-1)
			s.putNode(f, b, to)
		}
		out = append(out, e)
	}
	return out, changed, nil
}

// extent gives an extent as it will be, in one piece or in several.
func (s *shrinkage) extent(e []byte) (out [][]byte, moved bool, err error) {
	x, written := entryExtent(e)
	if x.physical <= 0 || x.physical+x.n > s.old.blocks {
		return nil, false, fmt.Errorf("an extent of %d blocks at block %d lies beyond the volume", x.n, x.physical)
	}
	runs, err := s.places.standing(span.At(x.physical, x.n), s.v.blocks)
	if err != nil {
		return nil, false, err
	}
	if len(runs) == 1 && runs[0].Start == x.physical {
		return [][]byte{e}, false, nil
	}
	logical := x.logical
	for _, r := range runs {
		out = append(out, appendExtent(nil, extent{logical, r.Start, r.Len()}, written))
		logical += r.Len()
	}
	return out, true, nil
}

// blockTree moves what a file with a block map has past the new end.
func (s *shrinkage) blockTree(f *file) error {
	for slot := range 15 {
		p := f.b[inoBlock+4*slot:][:4]
		at := int64(le.Uint32(p))
		if at == 0 {
			continue
		}
		to, err := s.mapped(at, max(0, slot-indirectSlot+1))
		if err != nil {
			return err
		}
		if to != at {
			le.PutUint32(p, uint32(to))
			f.changed = true
		}
	}
	return nil
}

// mapped is where a block of a map, which leads to others on so many levels, will stand.
func (s *shrinkage) mapped(at int64, level int) (int64, error) {
	if at >= s.old.blocks {
		return 0, fmt.Errorf("its map points to block %d of %d", at, s.old.blocks)
	}
	if level == 0 {
		runs, err := s.places.standing(span.At(at, 1), s.v.blocks)
		if err != nil {
			return 0, err
		}
		return runs[0].Start, nil
	}
	to := at
	if at >= s.v.blocks {
		runs, err := s.take(1)
		if err != nil {
			return 0, err
		}
		to = runs[0].Start
	}
	b, err := s.block(at)
	if err != nil {
		return 0, err
	}
	changed := to != at
	for i := 0; i+4 <= len(b); i += 4 {
		child := int64(le.Uint32(b[i:]))
		if child == 0 {
			continue
		}
		now, err := s.mapped(child, level-1)
		if err != nil {
			return 0, err
		}
		if now != child {
			le.PutUint32(b[i:], uint32(now))
			changed = true
		}
	}
	if changed {
		s.nodes[to] = b
		s.add(to, b, "map of a file")
	}
	return to, nil
}
