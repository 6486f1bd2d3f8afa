package fat

import (
	"encoding/binary"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Bounds of what directories say.
const (
	maxLong     = 20      // entries that one long name takes
	maxEntries  = 1 << 16 // of a directory, by the specification
	chainWindow = 1024    // entries of the table that are read at once
)

// entry is a file or directory as its directory names it.
type entry struct {
	name  string
	short string // 8.3, upper case
	attr  byte
	first int64 // cluster; 0 for none, and for the fixed root directory
	size  int64
	when  time.Time
	made  time.Time
	used  time.Time
	// at is where the entry stands, in bytes of the volume.
	at int64
}

// chain gives the runs of the clusters from first on; see links.
func (v *Volume) chain(first int64) ([]span.Span, error) {
	return (&links{v: v, step: chainWindow}).chain(first)
}

// readDir lists a directory; where it is damaged it gives what comes before, and the error.
func (v *Volume) readDir(dir entry) ([]entry, error) {
	runs, err := v.dirRuns(dir)
	var out []entry
	var long longName
	b := make([]byte, 0)
	total := 0
	for _, run := range runs {
		for sp := range disk.Chunks(run, 64<<10) {
			b = slices.Grow(b[:0], int(sp.Len()))[:sp.Len()]
			if err := disk.ReadFull(v.r, b, sp.Start); err != nil {
				return out, err
			}
			for i := 0; i+dirEntry <= len(b); i += dirEntry {
				e := b[i : i+dirEntry]
				if e[0] == 0 {
					return out, err
				}
				if total++; total > maxEntries {
					return out, fsys.Contradiction(sp.Start, "a folder has more than %d entries", maxEntries)
				}
				if e[entAttr]&attrLongName == attrLongName {
					long.add(e)
					continue
				}
				if e[0] != entFree && e[entAttr]&attrVolumeID == 0 && e[0] != '.' {
					out = append(out, v.entryOf(e, sp.Start+int64(i), long.of(e)))
				}
				long = longName{}
			}
		}
	}
	return out, err
}

func (v *Volume) dirRuns(dir entry) ([]span.Span, error) {
	if dir.first == 0 {
		if v.bits != 32 {
			return []span.Span{span.At(v.rootAt, v.rootSize)}, nil
		}
		return v.chain(int64(v.rootClus))
	}
	return v.chain(dir.first)
}

func (v *Volume) entryOf(e []byte, at int64, long string) entry {
	le := binary.LittleEndian
	x := entry{attr: e[entAttr], size: int64(le.Uint32(e[entSize:])),
		when: fromDOS(le.Uint16(e[entDate:]), le.Uint16(e[entTime:])), at: at}
	x.used = fromDOS(le.Uint16(e[entReadDate:]), 0)
	if x.made = fromDOS(le.Uint16(e[entMadeDate:]), le.Uint16(e[entMadeTime:])); !x.made.IsZero() {
		x.made = x.made.Add(time.Duration(min(e[entTenths], 199)) * 10 * time.Millisecond)
	}
	x.first = int64(le.Uint16(e[entCluster:]))
	if v.bits == 32 {
		x.first |= int64(le.Uint16(e[entClusterHi:])) << 16
	}
	base, ext := strings.TrimRight(string(e[:8]), " "), strings.TrimRight(string(e[8:11]), " ")
	if e[0] == entKanji {
		base = "\xE5" + base[1:]
	}
	join := func(base, ext string) string {
		if ext != "" {
			base += "." + ext
		}
		return oemString(base)
	}
	x.short = join(base, ext)
	if e[entCase]&lowerBase != 0 {
		base = strings.ToLower(base)
	}
	if e[entCase]&lowerExt != 0 {
		ext = strings.ToLower(ext)
	}
	if x.name = long; x.name == "" {
		x.name = join(base, ext)
	}
	return x
}

// longName collects the entries that stand before one with an 8.3 name, last piece first.
type longName struct {
	units []uint16
	left  int
	sum   byte
}

func (l *longName) add(e []byte) {
	n := int(e[0] &^ longLast)
	if e[0]&longLast != 0 {
		*l = longName{left: n, sum: e[longSum]}
	}
	if n == 0 || n > maxLong || n != l.left || e[longSum] != l.sum {
		*l = longName{}
		return
	}
	l.left--
	var piece []uint16
	for _, r := range [][2]int{{1, 11}, {14, 26}, {28, 32}} {
		for i := r[0]; i < r[1]; i += 2 {
			piece = append(piece, binary.LittleEndian.Uint16(e[i:]))
		}
	}
	l.units = append(piece, l.units...)
}

// of gives the long name of an entry; "" when it has none that is whole.
func (l *longName) of(e []byte) string {
	if len(l.units) == 0 || l.left != 0 || l.sum != shortSum(e) {
		return ""
	}
	u := l.units
	if i := slices.Index(u, 0); i >= 0 {
		u = u[:i]
	}
	s := string(utf16.Decode(u))
	if s == "." || s == ".." || strings.ContainsAny(s, "/\x00") {
		return ""
	}
	return s
}

// shortSum is the sum of an 8.3 name that its long name carries ("ChkSum").
func shortSum(e []byte) byte {
	var s byte
	for _, c := range e[:11] {
		s = s>>1 | s<<7
		s += c
	}
	return s
}

// fromDOS is in local time, which the volume doesn't name.
func fromDOS(d, t uint16) time.Time {
	if d == 0 {
		return time.Time{}
	}
	return time.Date(1980+int(d>>9), time.Month(d>>5&15), int(d&31), int(t>>11), int(t>>5&63), int(t&31)*2, 0,
		time.Local)
}
