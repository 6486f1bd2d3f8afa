package signature

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/units"
)

var (
	le = binary.LittleEndian
	be = binary.BigEndian
)

// kinds are all kinds that this trade meets and that no file-system package here reads. A kind that covers another, as
// BitLocker To Go covers a FAT, is told by the caller.
var kinds = []kind{
	// Encryption.
	{name: BitLocker, class: Encrypted, at: []int64{0}, offset: 3, magic: "-FVE-FS-"},
	{name: BitLockerToGo, class: Encrypted, at: []int64{0}, offset: 424,
		magic: "\x3b\xd6\x67\x49\x29\x2e\xd8\x4a\x83\x99\xf6\xa3\x39\xe3\xd0\x01"},
	{name: "LUKS1", class: Encrypted, at: []int64{0}, magic: "LUKS\xba\xbe\x00\x01", describe: luks},
	{name: "LUKS2", class: Encrypted, at: []int64{0}, magic: "LUKS\xba\xbe\x00\x02", describe: luks},
	{name: "LUKS2 (only its second header)", class: Encrypted,
		at:    []int64{16 << 10, 32 << 10, 64 << 10, 128 << 10, 256 << 10, 512 << 10, 1 << 20, 2 << 20, 4 << 20},
		magic: "SKUL\xba\xbe\x00\x02", also: noLUKS},
	{name: "a disk encrypted by its system (CoreStorage)", class: Encrypted, at: []int64{0}, offset: 88, magic: "CS",
		also: coreStorage},
	// Members of something larger.
	{name: "Linux RAID member", class: Member, at: []int64{0, 4096}, from: raidEnds, magic: "\xfc\x4e\x2b\xa9",
		also: raidVersion, describe: raid},
	{name: "Linux RAID member (big-endian)", class: Member, from: raidEnds, magic: "\xa9\x2b\x4e\xfc"},
	{name: "LVM volume group member", class: Member, at: []int64{0, 512, 1024, 1536}, magic: "LABELONE", also: isLVM2,
		describe: lvm2},
	{name: "LVM1 volume group member", class: Member, at: []int64{0}, magic: "HM", also: func(a *area, at int64) bool {
		v := a.bytes(at+2, 2)
		return v[0] <= 2 && v[0] > 0 && v[1] == 0
	}},
	{name: "bcache member", class: Member, at: []int64{4096}, offset: 24,
		magic: "\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81"},
	{name: "bcachefs", class: FileSystem, at: []int64{4096}, offset: 24,
		magic: "\xc6\x85\x73\xf6\x66\xce\x90\xa9\xd9\x6a\x60\xcf\x80\x3d\xf7\xef", describe: texts(56, 72, 32)},
	{name: "ZFS pool member", class: Member, from: zfsLabels, magic: ""},
	{name: "dynamic disk (LDM)", class: Member, at: []int64{0, 0xC00}, magic: "PRIVHEAD"},
	{name: "LDM database", class: Member, at: []int64{-1 << 20, -1<<20 + 512, 512}, magic: "TOCBLOCK"},
	{name: "Storage Spaces member", class: Member, at: []int64{0, 4096}, magic: "SPACEDB "},
	{name: "firmware RAID member (DDF)", class: Member, at: []int64{-512, -4096, -131584}, magic: "\xde\x11\xde\x11"},
	{name: "firmware RAID member (Intel)", class: Member, at: []int64{-1024, -8192}, magic: "Intel Raid ISM Cfg Sig. "},
	{name: "firmware RAID member (NVIDIA)", class: Member, at: []int64{-1024}, magic: "NVIDIA"},
	{name: "firmware RAID member (LSI)", class: Member, at: []int64{-512}, magic: "$XIDE$"},
	{name: "firmware RAID member (JMicron)", class: Member, at: []int64{-512}, magic: "JM", also: jmicron},
	{name: "firmware RAID member (Promise)", class: Member, from: promise, magic: "Promise Technology, Inc."},
	{name: "firmware RAID member (HighPoint)", class: Member, at: []int64{4608}, offset: 32, magic: "\xf0\x16\x78\x5a"},
	{name: "firmware RAID member (HighPoint)", class: Member, at: []int64{4608}, offset: 32, magic: "\xfd\x16\x78\x5a"},
	{name: "firmware RAID member (Adaptec)", class: Member, at: []int64{-512}, magic: "DPTM"},
	{name: "replicated disk (DRBD)", class: Member, at: []int64{-4096},
		from: func(a *area) []int64 { return []int64{a.size/4096*4096 - 4096} }, offset: 60, magic: "\x83\x74\x02\x6b"},
	{name: "checked by hashes (dm-verity)", class: Member, at: []int64{0}, magic: "verity\x00\x00"},
	{name: "checked by sums (dm-integrity)", class: Member, at: []int64{0}, magic: "integrt\x00"},
	{name: "VMFS member", class: Member, at: []int64{1 << 20}, magic: "\x0d\xd0\x01\xc0"},
	{name: "Ceph storage", class: Member, at: []int64{0}, magic: "bluestore block device"},
	{name: "VDO member", class: Member, at: []int64{0}, magic: "dmvdo001"},
	// File systems of Windows.
	{name: "ReFS", at: []int64{0}, offset: 3, magic: "ReFS\x00\x00\x00\x00"},
	{name: "HPFS", at: []int64{0x2000}, magic: "\x49\xe8\x95\xf9"},
	// File systems of Linux.
	{name: "XFS", at: []int64{0}, magic: "XFSB", describe: texts(32, 108, 12)},
	{name: "btrfs", at: []int64{64 << 10}, offset: 64, magic: "_BHRfS_M", describe: texts(32, 299, 256)},
	{name: "btrfs (only a copy of its super block)", at: []int64{64 << 20, 256 << 30}, offset: 64, magic: "_BHRfS_M",
		also: func(a *area, _ int64) bool {
			return !a.has(64<<10+64, "_BHRfS_M")
		}},
	{name: "F2FS", at: []int64{1024}, magic: "\x10\x20\xf5\xf2", describe: f2fs},
	{name: "JFS", at: []int64{32 << 10}, magic: "JFS1", describe: texts(136, 152, 16)},
	{name: "ReiserFS", at: []int64{64 << 10, 8 << 10}, offset: 52, magic: "ReIsEr", also: reiser,
		describe: texts(84, 100, 16)},
	{name: "Reiser4", at: []int64{64 << 10}, magic: "ReIsEr4", describe: texts(20, 36, 16)},
	{name: "NILFS2", at: []int64{1024}, from: func(a *area) []int64 { return []int64{a.size/4096*4096 - 4096} },
		offset: 6, magic: "\x34\x34", also: nilfs, describe: texts(152, 168, 80)},
	{name: "EROFS", at: []int64{1024}, magic: "\xe2\xe1\xf5\xe0", describe: texts(48, 64, 16)},
	{name: "SquashFS", at: []int64{0}, magic: "hsqs", also: func(a *area, at int64) bool {
		return le.Uint16(a.bytes(at+28, 2)) <= 4
	}},
	{name: "SquashFS", at: []int64{0}, magic: "sqsh"},
	{name: "cramfs", at: []int64{0, 512}, magic: "\x45\x3d\xcd\x28"},
	{name: "romfs", at: []int64{0}, magic: "-rom1fs-"},
	{name: "GFS2", at: []int64{64 << 10}, magic: "\x01\x16\x19\x70\x00\x00\x00\x01"},
	{name: "OCFS2", at: []int64{1024, 2048, 4096, 8192}, magic: "OCFSV2"},
	{name: "Minix", at: []int64{1024}, offset: 16, also: minix},
	// File systems of Macs.
	{name: "HFS", at: []int64{1024}, magic: "BD", also: hfs},
	// File systems of Unix and of other systems.
	{name: "UFS2", at: []int64{64 << 10, 256 << 10}, offset: 1372, magic: "\x19\x01\x54\x19"},
	{name: "UFS2 (big-endian)", at: []int64{64 << 10, 256 << 10}, offset: 1372, magic: "\x19\x54\x01\x19"},
	{name: "UFS", at: []int64{8 << 10, 64 << 10}, offset: 1372, magic: "\x54\x19\x01\x00"},
	{name: "UFS (big-endian)", at: []int64{8 << 10, 64 << 10}, offset: 1372, magic: "\x00\x01\x19\x54"},
	{name: "BeFS", at: []int64{512, 0}, offset: 32, magic: "1SFB"},
	{name: "BFS", at: []int64{0}, magic: "\xce\xfa\xad\x1b"},
	{name: "VxFS", at: []int64{1024}, magic: "\xf5\xfc\x01\xa5"},
	{name: "HAMMER", at: []int64{0}, magic: "\x31\x30\x52\xc5\x4d\x41\x48\xc8"},
	{name: "Amiga file system", at: []int64{0}, magic: "DOS", also: func(a *area, at int64) bool {
		return a.bytes(at+3, 1)[0] <= 7
	}},
	// Discs.
	{name: "UDF", from: udf, offset: 1, magic: "NSR0"},
	{name: "ISO 9660", at: []int64{32 << 10}, offset: 1, magic: "CD001", describe: iso},
	// Swap areas that can't be read here, and sleeping systems.
	{name: "swap of the first kind", class: Swap, from: pages, offset: -10, magic: "SWAP-SPACE"},
	{name: "swap (big-endian)", class: Swap, from: pages, offset: -10, magic: "SWAPSPACE2",
		also: func(a *area, _ int64) bool {
			return be.Uint32(a.bytes(1024, 4)) == 1
		}},
	{name: "a sleeping system's memory (TuxOnIce)", class: Asleep, at: []int64{0},
		magic: "\xed\xc3\x02\xe9\x98\x56\xe5\x0c"},
	// Tables of other systems.
	{name: "Apple partition map", class: Member, at: []int64{512, 2048, 4096}, magic: "PM\x00\x00"},
}

// Names that others ask for.
const (
	BitLocker     = "BitLocker"
	BitLockerToGo = "BitLocker To Go"
)

// EncryptedKind is how a kind of encrypted volume is called among kinds of file systems.
func EncryptedKind(name string) string { return name + " (encrypted)" }

// uuid writes 16 bytes as most systems do.
func uuid(b []byte) string {
	if len(b) < 16 || bytes.Count(b[:16], []byte{0}) == 16 {
		return ""
	}
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:16])
}

func text(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return units.Visible(strings.TrimSpace(strings.ToValidUTF8(string(b), "\uFFFD")))
}

// texts describes a kind by a UUID of 16 bytes and a label of n bytes.
func texts(id, label int64, n int) func(*area, int64, *Found) {
	return func(a *area, at int64, f *Found) {
		f.ID = uuid(a.bytes(at+id, 16))
		if n > 0 {
			f.Label = text(a.bytes(at+label, n))
		}
	}
}

func luks(a *area, at int64, f *Found) {
	f.ID = text(a.bytes(at+168, 40))
	if f.Kind == "LUKS2" {
		f.Label = text(a.bytes(at+24, 48))
	}
}

func noLUKS(a *area, _ int64) bool { return !a.has(0, "LUKS\xba\xbe") }

// coreStorage: block type 0x0010 or 0x0011 of version 1, and blocks of a power of two.
func coreStorage(a *area, at int64) bool {
	b := a.bytes(at, 100)
	size := le.Uint32(b[96:])
	return le.Uint16(b[8:]) == 1 && size >= 512 && size <= 65536 && size&(size-1) == 0
}

// raidEnds are where md keeps its super block at the end: version 0.90 in the last whole 64 KiB but one, 1.0 at least 8
// KiB before the end, on 4 KiB.
func raidEnds(a *area) []int64 {
	return []int64{a.size&^0xFFFF - 0x10000, (a.size/512 - 16) &^ 7 * 512}
}

// raidVersion: 0.90 has major version 0, the others 1.
func raidVersion(a *area, at int64) bool {
	b := a.bytes(at+4, 4)
	return le.Uint32(b) <= 1
}

func raid(a *area, at int64, f *Found) {
	if le.Uint32(a.bytes(at+4, 4)) == 1 {
		f.ID, f.Label = uuid(a.bytes(at+16, 16)), text(a.bytes(at+32, 32))
	}
}

func isLVM2(a *area, at int64) bool { return a.has(at+24, "LVM2 001") }

// lvm2 reads the physical volume's UUID, which is 32 letters.
func lvm2(a *area, at int64, f *Found) {
	off := int64(le.Uint32(a.bytes(at+20, 4)))
	if id := string(a.bytes(at+off, 32)); off <= 480 && len(id) == 32 {
		f.ID = strings.Join([]string{id[:6], id[6:10], id[10:14], id[14:18], id[18:22], id[22:26], id[26:]}, "-")
	}
}

// zfsLabels looks at the four labels of 256 KiB: each has a list of names at 16 KiB, of which the first is "version",
// and a ring of uberblocks in its second half.
func zfsLabels(a *area) []int64 {
	const label, list, ring = 256 << 10, 16 << 10, 128 << 10
	end := a.size / label * label
	for _, l := range []int64{0, label, end - 2*label, end - label} {
		if l < 0 {
			continue
		}
		if a.has(l+list+24, "version\x00") {
			return []int64{l}
		}
		for at := l + ring; at < l+ring+page; at += 1024 {
			if m := string(a.bytes(at, 8)); m == "\x0c\xb1\xba\x00\x00\x00\x00\x00" ||
				m == "\x00\x00\x00\x00\x00\xba\xb1\x0c" {
				return []int64{l}
			}
		}
	}
	return nil
}

// jmicron: the sum of the sector's words is 0.
func jmicron(a *area, at int64) bool {
	var sum uint16
	b := a.bytes(at, 128)
	for i := 0; i < len(b); i += 2 {
		sum += le.Uint16(b[i:])
	}
	return sum == 0 || sum == 1
}

func promise(a *area) []int64 {
	var out []int64
	for _, n := range []int64{63, 255, 256, 16, 399, 591, 675, 735, 911, 974, 991, 951, 3087} {
		out = append(out, a.size/512*512-n*512)
	}
	return out
}

func f2fs(a *area, at int64, f *Found) {
	f.ID = uuid(a.bytes(at+108, 16))
	f.Label = utf16Text(a.bytes(at+124, 1024))
}

func utf16Text(b []byte) string {
	var u []uint16
	for i := 0; i+1 < len(b) && le.Uint16(b[i:]) != 0; i += 2 {
		u = append(u, le.Uint16(b[i:]))
	}
	return units.Visible(strings.ToValidUTF8(string(utf16.Decode(u)), "\uFFFD"))
}

// reiser: "ReIsErFs", "ReIsEr2Fs" or "ReIsEr3Fs".
func reiser(a *area, at int64) bool {
	m := string(a.bytes(at+58, 3))
	return strings.HasPrefix(m, "Fs") || m == "2Fs" || m == "3Fs"
}

// nilfs: revision 2, and a super block of a size that is possible.
func nilfs(a *area, at int64) bool {
	b := a.bytes(at, 24)
	n := le.Uint16(b[8:])
	return le.Uint32(b) == 2 && n >= 64 && n <= 1024
}

func minix(a *area, at int64) bool {
	b := a.bytes(at, 58)
	if le.Uint16(b[56:]) == 0xEF53 {
		return false // an ext whose count of free inodes looks like it
	}
	switch le.Uint16(b[16:]) {
	case 0x137F, 0x138F, 0x2468, 0x2478: // versions 1 and 2: zones follow inodes, and the log of the zone size is small
		return le.Uint16(b[10:]) <= 10 && le.Uint16(b) > 0 && le.Uint16(b[4:]) > 0 && le.Uint16(b[8:]) > 0
	}
	return le.Uint16(b[24:]) == 0x4D5A && le.Uint16(b[28:]) >= 1024 && le.Uint32(b) > 0
}

// hfs: blocks of whole sectors; one that wraps an HFS+ volume is known by that.
func hfs(a *area, at int64) bool {
	b := a.bytes(at, 126)
	size := be.Uint32(b[20:])
	return size >= 512 && size%512 == 0 && be.Uint16(b[18:]) > 0 && string(b[124:]) != "H+"
}

// udf looks through the volume recognition sequence (ECMA-167, part 2) for sectors of 2 and 4 KiB.
func udf(a *area) []int64 {
	var out []int64
	for _, step := range []int64{2048, 4096} {
		for i := range int64(16) {
			at := 32<<10 + i*step
			if a.has(at+1, "NSR0") {
				out = append(out, at)
			}
			if a.bytes(at+1, 1)[0] == 0 {
				break
			}
		}
	}
	return out
}

func iso(a *area, at int64, f *Found) { f.Label = text(a.bytes(at+40, 32)) }

// pages are the ends of the first page of memory, which has 4 to 64 KiB.
func pages(*area) []int64 { return []int64{4096, 8192, 16384, 32768, 65536} }
