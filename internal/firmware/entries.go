package firmware

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/table"
)

// Entry is one that the firmware can start from (section 3.1.3, load options).
type Entry struct {
	Number uint16
	Title  string
	// Active entries are tried in their order; hidden ones aren't shown.
	Active, Hidden bool
	// File is what is started, as the firmware names it; Disk is the part that it is on, nil where the entry says no
	// part of a disk.
	File string
	Disk *Place
}

// Place is a part of a disk as an entry names it (section 10.3.5.1).
type Place struct {
	Part uint32
	// Start and Size are in sectors.
	Start, Size uint64
	// ID is that of the part, as tables name it; of an MBR's the disk's signature in hexadecimal.
	ID  string
	GPT bool
}

// Words says where an entry leads.
func (e Entry) Words() string {
	switch {
	case e.Disk != nil && e.File != "":
		return fmt.Sprintf("%s on part %d (%s)", e.File, e.Disk.Part, e.Disk.ID)
	case e.File != "":
		return e.File
	case e.Disk != nil:
		return fmt.Sprintf("part %d (%s)", e.Disk.Part, e.Disk.ID)
	}
	return "something that isn't a file on a disk"
}

// Of load options and device paths (sections 3.1.3 and 10.3).
const (
	active, hidden = 1, 8

	media, hardDrive, filePath = 4, 1, 4
	ends, endsAll              = 0x7F, 0xFF
	hardDriveLen               = 42
	formatMBR, formatGPT       = 1, 2
	signedMBR, signedGUID      = 1, 2
	mostNodes                  = 64
)

// ErrEntry means that an entry can't be read.
var ErrEntry = errors.New("the entry can't be read")

// parse reads an entry.
func parse(number uint16, b []byte) (Entry, error) {
	e := Entry{Number: number}
	if len(b) < 6 {
		return e, fmt.Errorf("%w: it has %d bytes", ErrEntry, len(b))
	}
	attributes, long := binary.LittleEndian.Uint32(b), int(binary.LittleEndian.Uint16(b[4:]))
	e.Active, e.Hidden = attributes&active != 0, attributes&hidden != 0
	title, rest, ended := text(b[6:])
	if !ended || long > len(rest) {
		return e, fmt.Errorf("%w: it ends before its device path does", ErrEntry)
	}
	e.Title = title
	path := rest[:long]
	for range mostNodes {
		if len(path) < 4 {
			return e, fmt.Errorf("%w: its device path doesn't end", ErrEntry)
		}
		kind, sub, n := path[0], path[1], int(binary.LittleEndian.Uint16(path[2:]))
		if n < 4 || n > len(path) {
			return e, fmt.Errorf("%w: a node of its device path has %d bytes", ErrEntry, n)
		}
		if kind == ends {
			return e, nil
		}
		body := path[4:n]
		switch {
		case kind == media && sub == hardDrive && n == hardDriveLen:
			e.Disk = placeOf(body)
		case kind == media && sub == filePath:
			name, _, _ := text(body)
			e.File += name
		}
		path = path[n:]
	}
	return e, fmt.Errorf("%w: its device path has too many nodes", ErrEntry)
}

func placeOf(b []byte) *Place {
	le := binary.LittleEndian
	p := &Place{Part: le.Uint32(b), Start: le.Uint64(b[4:]), Size: le.Uint64(b[12:]), GPT: b[36] == formatGPT}
	if b[37] == signedGUID {
		p.ID = table.GUIDString(b[20:36])
	} else {
		p.ID = hex.EncodeToString([]byte{b[23], b[22], b[21], b[20]})
	}
	return p
}

// text reads UTF-16 up to its zero.
func text(b []byte) (s string, rest []byte, ended bool) {
	var units []uint16
	for len(b) >= 2 {
		u := binary.LittleEndian.Uint16(b)
		b = b[2:]
		if u == 0 {
			return string(utf16.Decode(units)), b, true
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units)), b, false
}

func appendText(b []byte, s string) []byte {
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return append(b, 0, 0)
}

// build is the load option of an entry on a part of a GPT disk.
func (e Entry) build() ([]byte, error) {
	if e.Disk == nil || !e.Disk.GPT || e.File == "" {
		return nil, errors.New("only a file on a part of a GPT disk can be entered")
	}
	id, err := table.GUIDBytes(e.Disk.ID)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	path := []byte{media, hardDrive, hardDriveLen, 0}
	path = le.AppendUint32(path, e.Disk.Part)
	path = le.AppendUint64(path, e.Disk.Start)
	path = le.AppendUint64(path, e.Disk.Size)
	path = append(path, id...)
	path = append(path, formatGPT, signedGUID)
	name := appendText(nil, e.File)
	path = append(path, media, filePath)
	path = le.AppendUint16(path, uint16(4+len(name)))
	path = append(path, name...)
	path = append(path, ends, endsAll, 4, 0)
	b := le.AppendUint32(nil, active)
	b = le.AppendUint16(b, uint16(len(path)))
	return append(appendText(b, e.Title), path...), nil
}

// List is what the firmware has.
type List struct {
	// Entries are in the order in which they are tried, those that aren't in it at the end.
	Entries []Entry
	Order   []uint16
	// Current is the entry that this start came from; -1 where the firmware doesn't say.
	Current int
	// Problems are entries that can't be read.
	Problems []string
}

// Read reads the entries. ErrNone where there is no such firmware.
func (v Variables) Read() (*List, error) {
	l := &List{Current: -1}
	order, err := v.get("BootOrder")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for i := 0; i+1 < len(order); i += 2 {
		l.Order = append(l.Order, binary.LittleEndian.Uint16(order[i:]))
	}
	if b, err := v.get("BootCurrent"); err == nil && len(b) == 2 {
		l.Current = int(binary.LittleEndian.Uint16(b))
	}
	names, err := v.names("Boot")
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		number, err := strconv.ParseUint(strings.TrimPrefix(n, "Boot"), 16, 16)
		if err != nil || len(n) != len("Boot0000") {
			continue
		}
		b, err := v.get(n)
		if err == nil {
			var e Entry
			if e, err = parse(uint16(number), b); err == nil {
				l.Entries = append(l.Entries, e)
			}
		}
		if err != nil {
			l.Problems = append(l.Problems, fmt.Sprintf("%s: %v", n, err))
		}
	}
	place := func(e Entry) int {
		if i := slices.Index(l.Order, e.Number); i >= 0 {
			return i
		}
		return mostEntries + int(e.Number)
	}
	slices.SortFunc(l.Entries, func(a, b Entry) int { return place(a) - place(b) })
	return l, nil
}

// Undo takes back what Add did.
type Undo struct {
	order []byte // as it was; nil for none
	added string // the variable that is new; empty where one that was there was moved to the front
}

// Add has the firmware start an entry before all others: one that leads to the same file is moved to the front,
// otherwise it is new. The order stays as it was but for that.
func (v Variables) Add(title, file string, p Place) (*Undo, error) {
	l, err := v.Read()
	if err != nil {
		return nil, err
	}
	u := &Undo{}
	if b, err := v.get("BootOrder"); err == nil {
		u.order = b
	}
	e := Entry{Title: title, File: file, Disk: &p}
	at := slices.IndexFunc(l.Entries, func(o Entry) bool {
		return o.Disk != nil && *o.Disk == p && strings.EqualFold(o.File, file) && o.Active
	})
	if at >= 0 {
		e.Number = l.Entries[at].Number
	} else if e.Number, err = l.free(); err != nil {
		return nil, err
	}
	if at < 0 {
		b, err := e.build()
		if err != nil {
			return nil, err
		}
		u.added = name(e.Number)
		if err := v.set(u.added, b); err != nil {
			return nil, err
		}
	}
	order := binary.LittleEndian.AppendUint16(nil, e.Number)
	for _, n := range l.Order {
		if n != e.Number {
			order = binary.LittleEndian.AppendUint16(order, n)
		}
	}
	if err := v.set("BootOrder", order); err != nil {
		return nil, errors.Join(err, v.Undo(u))
	}
	return u, nil
}

func name(number uint16) string { return fmt.Sprintf("Boot%04X", number) }

// free is a number that no entry has.
func (l *List) free() (uint16, error) {
	for n := range uint16(mostEntries) {
		taken := slices.ContainsFunc(l.Entries, func(e Entry) bool { return e.Number == n }) ||
			slices.Contains(l.Order, n) || slices.ContainsFunc(l.Problems, func(p string) bool {
			return strings.HasPrefix(p, name(n))
		})
		if !taken {
			return n, nil
		}
	}
	return 0, errors.New("the firmware has no number left for an entry")
}

// Undo puts the order back as it was, and takes the new entry away.
func (v Variables) Undo(u *Undo) error {
	var err error
	if u.order != nil {
		err = v.set("BootOrder", u.order)
	} else if _, there := v.get("BootOrder"); there == nil {
		err = v.remove("BootOrder")
	}
	if u.added != "" {
		if _, there := v.get(u.added); there == nil {
			err = errors.Join(err, v.remove(u.added))
		}
	}
	return err
}

// toSetup is the bit of OsIndications that opens the firmware's set-up (section 8.5.4).
const toSetup = 1

// CanOpenSetup says whether the firmware opens its set-up at the next start when it is asked to.
func (v Variables) CanOpenSetup() bool {
	b, err := v.get("OsIndicationsSupported")
	return err == nil && len(b) == 8 && b[0]&toSetup != 0
}

// OpenSetup has the firmware open its set-up at the next start.
func (v Variables) OpenSetup() error {
	if !v.CanOpenSetup() {
		return errors.New("the firmware doesn't open its set-up when it is asked to: press its key while the machine " +
			"starts (often F2, Del, F10 or Esc)")
	}
	b, err := v.get("OsIndications")
	if err != nil || len(b) != 8 {
		b = make([]byte, 8)
	}
	b[0] |= toSetup
	return v.set("OsIndications", b)
}
