package ntfs

import (
	"encoding/binary"
	"fmt"
	"io/fs"
	"strings"

	"twinshelf/internal/units"
)

// Tags of reparse points ([MS-FSCC] section 2.1.2.1) and the layouts behind them (2.1.2.4, 2.1.2.5).
const (
	tagMountPoint = 0xA0000003
	tagSymlink    = 0xA000000C
	tagLXSymlink  = 0xA000001D
	tagUnix       = 0x80000023
	tagFIFO       = 0x80000024
	tagChar       = 0x80000025
	tagBlock      = 0x80000026
	tagDedup      = 0x80000013
	tagWOF        = 0x80000017
	tagCloud      = 0x9000001A // and those that differ from it in tagCloudKinds only

	tagCloudKinds = 0xF000

	reparseHead    = 8
	nameOffsets    = 8 // of the substitute name's and the printed name's places
	junctionBuffer = 16
	symlinkBuffer  = 20
	lxTarget       = 12
	maxReparse     = 16 << 10

	// A link as some systems write it, into a file with the attribute System.
	linkMagic = "IntxLNK\x01"
	maxLink   = 8 + 2*4096
)

// link is what a file stands for instead of contents.
type link struct {
	mode   fs.FileMode
	target string
	what   string
}

// reparseOf gives a record's reparse point: its tag and all of its bytes.
func (v *Volume) reparseOf(rec *record) (uint32, []byte) {
	s, err := v.stream(rec, attrReparse, "")
	if err != nil || !s.found || s.size < reparseHead || s.size > maxReparse {
		return 0, nil
	}
	b := s.value
	if b == nil {
		b = make([]byte, s.size)
		if _, err := v.readRuns(s.runs, b, 0); err != nil {
			return 0, nil
		}
	}
	return binary.LittleEndian.Uint32(b), b
}

// link decodes what a record stands for; false when it is an ordinary file or folder.
func (t tree) link(rec *record) (link, bool) {
	flags, _ := standardOf(rec)
	if flags&fileReparse == 0 {
		return t.oldLink(rec, flags)
	}
	switch tag, b := t.v.reparseOf(rec); {
	case tag == tagSymlink:
		return link{fs.ModeSymlink, printed(b, symlinkBuffer), ""}, true
	case tag == tagMountPoint:
		return link{fs.ModeSymlink, printed(b, junctionBuffer),
			"a junction: it stands for a folder elsewhere, or for a whole volume"}, true
	case tag == tagLXSymlink && len(b) >= lxTarget:
		return link{fs.ModeSymlink, strings.ToValidUTF8(string(b[lxTarget:]), "_"), ""}, true
	case tag == tagUnix:
		return link{mode: fs.ModeSocket}, true
	case tag == tagFIFO:
		return link{mode: fs.ModeNamedPipe}, true
	case tag == tagChar:
		return link{mode: fs.ModeDevice | fs.ModeCharDevice}, true
	case tag == tagBlock:
		return link{mode: fs.ModeDevice}, true
	}
	return link{}, false
}

// printed gives the name that a reparse point shows, or the one that it leads to.
func printed(b []byte, buffer int) string {
	if len(b) < buffer {
		return ""
	}
	le := binary.LittleEndian
	name := func(i int) string {
		off, n := buffer+int(le.Uint16(b[nameOffsets+4*i:])), int(le.Uint16(b[nameOffsets+4*i+2:]))
		if off+n > len(b) {
			return ""
		}
		return utf16String(b[off : off+n])
	}
	s := name(1)
	if s == "" {
		s = strings.TrimPrefix(name(0), `\??\`)
	}
	return strings.ReplaceAll(s, "\x00", "_")
}

// oldLink knows the links that stand in files.
func (t tree) oldLink(rec *record, flags uint32) (link, bool) {
	if flags&fileSystem == 0 || binary.LittleEndian.Uint16(rec.b[recFlags:])&recordIsDir != 0 {
		return link{}, false
	}
	s, err := t.v.stream(rec, attrData, "")
	if err != nil || s.size <= int64(len(linkMagic)) || s.size > maxLink || s.flags&streamEncrypted != 0 {
		return link{}, false
	}
	c, err := t.v.contents(s, rec.at)
	if err != nil {
		return link{}, false
	}
	b := make([]byte, s.size)
	if n, _ := c.ReadAt(b, 0); n < len(b) || string(b[:len(linkMagic)]) != linkMagic {
		return link{}, false
	}
	return link{fs.ModeSymlink, strings.ReplaceAll(utf16String(b[len(linkMagic):]), "\x00", "_"), ""}, true
}

// away says why a file's contents aren't in it, or not all of a folder's entries, and what is; empty when they are.
func away(v *Volume, rec *record) string {
	flags, _ := standardOf(rec)
	tag, cloud := uint32(0), false
	if flags&fileReparse != 0 {
		tag, _ = v.reparseOf(rec)
		cloud = tag&^tagCloudKinds == tagCloud
	}
	folder := binary.LittleEndian.Uint16(rec.b[recFlags:])&recordIsDir != 0
	switch {
	case folder && flags&fileRecallOpen != 0:
		return "it is kept in a cloud, and what is in it wasn't all fetched: other files may be there"
	case folder:
		return ""
	case cloud && flags&(fileOffline|fileRecall) != 0:
		return "it is kept in a cloud; " + here(v, rec)
	case flags&(fileOffline|fileRecall) != 0:
		return "its contents are kept elsewhere (in a cloud or on other media); " + here(v, rec)
	case tag == tagDedup:
		return "its contents are in the volume's store of shared pieces (System Volume Information/Dedup), which is " +
			"captured and restored with it, and not read here; " + here(v, rec)
	case tag == tagWOF && packedBySystem(v, rec) == "":
		return "its contents are packed by its system in a way that isn't read (into an image in another file, perhaps)"
	}
	return ""
}

// here says how much of a file's contents is in the file itself.
func here(v *Volume, rec *record) string {
	s, err := v.stream(rec, attrData, "")
	if err != nil || !s.found {
		return "how much of them is here can't be told"
	}
	n := int64(len(s.value))
	for _, r := range s.runs {
		if !r.sparse {
			n += r.n * v.cluster
		}
	}
	if n = min(n, s.size); n == 0 {
		return "none of its " + units.Bytes(s.size) + " are in the file itself"
	}
	return fmt.Sprintf("of its %s at most %s are in the file itself", units.Bytes(s.size), units.Bytes(n))
}
