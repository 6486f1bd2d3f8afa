// Package hivetest makes registry files and their logs for tests.
package hivetest

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/hive"
	"twinshelf/internal/testkit"
)

var le = binary.LittleEndian

// Sizes in bytes, and offsets in a registry file.
const (
	headLen  = 4096
	binLen   = 4096
	page     = 512
	atSum    = 508
	atBins   = 40
	firstKey = 32
)

// Seal makes the checksum of a file's first block right.
func Seal(b []byte) {
	sum := uint32(0)
	for at := 0; at < atSum; at += 4 {
		sum ^= le.Uint32(b[at:])
	}
	switch sum {
	case 0:
		sum = 1
	case 0xFFFFFFFF:
		sum = 0xFFFFFFFE
	}
	le.PutUint32(b[atSum:], sum)
}

// Empty is a registry file that has nothing but its topmost key.
func Empty() []byte {
	const key, security = firstKey, firstKey + 88
	b := make([]byte, headLen+binLen)
	copy(b, "regf")
	for at, n := range map[int]uint32{4: 1, 8: 1, 20: 1, 24: 5, 32: 1, 36: key, atBins: binLen, 44: 1} {
		le.PutUint32(b[at:], n)
	}
	bin := b[headLen:]
	copy(bin, "hbin")
	le.PutUint32(bin[8:], binLen)
	le.PutUint32(bin[key:], ^uint32(88-1))
	k := bin[key+4:]
	copy(k, "nk")
	le.PutUint16(k[2:], 0x2C)
	for at, n := range map[int]uint32{28: 0xFFFFFFFF, 32: 0xFFFFFFFF, 40: 0xFFFFFFFF, 44: security, 48: 0xFFFFFFFF} {
		le.PutUint32(k[at:], n)
	}
	le.PutUint16(k[72:], 4)
	copy(k[76:], "ROOT")
	le.PutUint32(bin[security:], ^uint32(48-1))
	s := bin[security+4:]
	copy(s, "sk")
	le.PutUint32(s[4:], security)
	le.PutUint32(s[8:], security)
	le.PutUint32(s[12:], 1)
	le.PutUint32(s[16:], 20)
	copy(s[20:], []byte{1, 0, 0, 0x80})
	le.PutUint32(bin[security+48:], binLen-security-48)
	Seal(b)
	return b
}

// Written is a registry file that hivexsh makes of an empty one, by lines for it.
func Written(t testing.TB, lines []string) []byte {
	t.Helper()
	path := filepath.Join(t.TempDir(), "hive")
	if err := os.WriteFile(path, Empty(), 0o600); err != nil {
		t.Fatal(err)
	}
	shell, err := testkit.Path("hivexsh")
	if err != nil {
		testkit.Lacks(t, "libhivex-bin")
	}
	c := exec.Command(shell, "-w", path)
	c.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\ncommit\nquit\n")
	if out, err := c.CombinedOutput(); err != nil || bytes.Contains(out, []byte("hivexsh:")) {
		t.Fatalf("%v: %s", err, out)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	n := headLen + int(le.Uint32(b[atBins:]))
	Seal(b)
	return b[:n]
}

// Begun is a file to which a write was begun and not ended.
func Begun(b []byte) []byte {
	out := bytes.Clone(b)
	le.PutUint32(out[4:], le.Uint32(out[4:])+1)
	Seal(out)
	return out
}

// NewLog is a log of the newer kind that has the writes from each of the files to the next. All are equally long.
func NewLog(files ...[]byte) []byte {
	out := bytes.Clone(files[0][:page])
	le.PutUint32(out[28:], 6)
	Seal(out)
	for i := 1; i < len(files); i++ {
		was, now := files[i-1][headLen:], files[i][headLen:]
		var refs, data []byte
		for at := 0; at < len(now); at += binLen {
			if bytes.Equal(was[at:at+binLen], now[at:at+binLen]) && i+1 < len(files) {
				continue
			}
			refs = le.AppendUint32(le.AppendUint32(refs, uint32(at)), binLen)
			data = append(data, now[at:at+binLen]...)
		}
		e := make([]byte, 40)
		copy(e, "HvLE")
		size := (len(e) + len(refs) + len(data) + page - 1) / page * page
		le.PutUint32(e[4:], uint32(size))
		le.PutUint32(e[12:], le.Uint32(files[i-1][8:])+1)
		le.PutUint32(e[16:], uint32(len(now)))
		le.PutUint32(e[20:], uint32(len(refs)/8))
		e = slices.Concat(e, refs, data)
		e = append(e, make([]byte, size-len(e))...)
		le.PutUint64(e[24:], hive.Marvin(hive.Seed, e[40:]))
		le.PutUint64(e[32:], hive.Marvin(hive.Seed, e[:32]))
		out = append(out, e...)
	}
	return out
}

// Torn is a log whose last write wasn't ended.
func Torn(log []byte) []byte {
	out := bytes.Clone(log)
	out[len(out)-binLen]++
	return out
}

// OldLog is a log of the older kind that has the write from one file to another.
func OldLog(before, after []byte) []byte {
	out := bytes.Clone(after[:page])
	le.PutUint32(out[28:], 1)
	Seal(out)
	was, now := before[headLen:], after[headLen:]
	seen := make([]byte, len(now)/page/8)
	var data []byte
	for i := range len(now) / page {
		a, b := was[i*page:(i+1)*page], now[i*page:(i+1)*page]
		if !bytes.Equal(a, b) {
			seen[i/8] |= 1 << (i % 8)
			data = append(data, b...)
		}
	}
	out = append(append(out, "DIRT"...), seen...)
	out = append(out, make([]byte, (page-len(out)%page)%page)...)
	return append(out, data...)
}

// Append gives a file a further bin with cells, and says where they lie.
func Append(b []byte, cells ...[]byte) (out []byte, at []uint32) {
	bin := make([]byte, firstKey)
	start := len(b) - headLen
	for _, c := range cells {
		at = append(at, uint32(start+len(bin)))
		n := (4 + len(c) + 7) / 8 * 8
		cell := make([]byte, n)
		le.PutUint32(cell, uint32(-n))
		copy(cell[4:], c)
		bin = append(bin, cell...)
	}
	if rest := (binLen - len(bin)%binLen) % binLen; rest > 0 {
		bin = append(le.AppendUint32(bin, uint32(rest)), make([]byte, rest-4)...)
	}
	copy(bin, "hbin")
	le.PutUint32(bin[4:], uint32(start))
	le.PutUint32(bin[8:], uint32(len(bin)))
	out = slices.Concat(b, bin)
	le.PutUint32(out[atBins:], uint32(len(out)-headLen))
	Seal(out)
	return out, at
}
