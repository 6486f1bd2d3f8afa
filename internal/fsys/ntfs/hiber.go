package ntfs

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/fsys"
)

// hiberName is the file that a sleeping system's memory is written to.
const hiberName = "hiberfil.sys"

// image says what a hibernation file holds.
type image int

const (
	imageNone      image = iota // there is no such file
	imageSpent                  // nothing wakes up from it
	imageWaiting                // a system wakes up from it at the next start
	imageBegun                  // a system began to wake up from it and didn't come to the end
	imageElsewhere              // it says that the image is in another place
	imageUnknown                // its head isn't known
)

// hiberHead is what the first page of a hibernation file says.
type hiberHead struct {
	image image
	sign  string    // as it stands there
	since time.Time // when it was written; zero when that can't be told
	// fast says that it was written for a fast start; told that this is known.
	fast, told bool
}

// parseHiber reads the head of a hibernation file from its first page, or as much of that as there is.
func parseHiber(b []byte) hiberHead {
	page := make([]byte, hiberPage)
	n := copy(page, b)
	if n < 4 || bytes.Count(page, []byte{0}) == len(page) {
		return hiberHead{image: imageSpent, sign: "zeros"}
	}
	h := hiberHead{sign: fmt.Sprintf("%q", page[:4])}
	switch strings.ToLower(string(page[:4])) {
	case "wake":
		h.image = imageSpent
	case "hibr":
		h.image = imageWaiting
	case "rstr":
		h.image = imageBegun
	case "link":
		h.image = imageElsewhere
	default:
		h.image = imageUnknown
	}
	if h.image == imageWaiting || h.image == imageBegun {
		h.since = hiberTime(page)
		h.fast, h.told = hiberKind(page)
	}
	return h
}

// hiberTime is when the image was written. The size of a page, which is always the same, tells which layout it has.
func hiberTime(page []byte) time.Time {
	le := binary.LittleEndian
	for _, at := range [][2]int{{hiberPageSize64, hiberTime64}, {hiberPageSize32, hiberTime32}} {
		if le.Uint32(page[at[0]:]) != hiberPage {
			continue
		}
		t := filetime(page[at[1]:])
		if y := t.UTC().Year(); y >= 1995 && y < 2100 {
			return t
		}
	}
	return time.Time{}
}

// hiberKind says whether the image was written for a fast start. The mark lies in another place in each version, so it
// is found by what stands around it: a counted list of pages, a checksum, a number of pages, the highest page of the
// machine, which no other number of a page exceeds. Where that fits in no place or in several, nothing is told.
func hiberKind(page []byte) (fast, told bool) {
	found := 0
	for at := hiberSearchFrom + 4; at < hiberSearchTo; at += 8 {
		if f, fits := hiberMark(page, at); fits {
			fast = f
			found++
		}
	}
	return fast && found == 1, found == 1
}

// hiberMark looks whether the count of the list of pages stands at a byte of the page.
func hiberMark(page []byte, at int) (fast, fits bool) {
	le := binary.LittleEndian
	n := int(le.Uint32(page[at:]))
	list := page[at+4:]
	end := list[8*hiberLogPages:]
	highest := le.Uint64(end[hiberHighest:])
	if n < 1 || n > hiberLogPages || highest == 0 || highest > 1<<36 || le.Uint64(page[hiberSelf64:]) > highest {
		return false, false
	}
	for i := range hiberLogPages {
		if x := le.Uint64(list[8*i:]); x > highest || (x != 0) != (i < n) {
			return false, false
		}
	}
	for i := range hiberKeyCount {
		if le.Uint64(end[hiberKeyPages+8*i:]) > highest {
			return false, false
		}
	}
	pages := le.Uint32(end[hiberContext:])
	marks := end[hiberFast : hiberFast+4]
	for _, m := range marks[:3] {
		if m > 1 {
			return false, false
		}
	}
	if le.Uint32(end[hiberCheck:]) == 0 || pages == 0 || pages > hiberPage || marks[3] != 0 {
		return false, false
	}
	return marks[0] == 1, true
}

// hiberOf reads the head of the hibernation file in the root directory.
func hiberOf(v *Volume) (hiberHead, error) {
	s, _, ok, err := v.rootFile(hiberName)
	if err != nil || !ok {
		return hiberHead{}, err
	}
	b := make([]byte, min(hiberPage, max(0, s.size)))
	switch {
	case s.value != nil:
		b = s.value[:min(len(s.value), hiberPage)]
	case len(s.runs) == 0:
		b = nil
	default:
		if _, err := v.readRuns(s.runs, b, 0); err != nil {
			return hiberHead{}, fmt.Errorf("%s: %w", hiberName, err)
		}
	}
	return parseHiber(b), nil
}

// restOf says how a volume's system left it: from its marks, the hibernation file and the log.
func restOf(v *Volume, flags uint16) (fsys.Rest, error) {
	head, err := hiberOf(v)
	if err != nil {
		return fsys.Rest{}, err
	}
	v.hiber = head.image
	log, err := v.logState()
	if err != nil {
		return fsys.Rest{}, fmt.Errorf("$LogFile: %w", err)
	}
	marked := flags&(volumeDirty|volumeResizeLog|volumeUpgrade|volumeChkdsk) != 0
	r := fsys.Rest{Since: head.since, Log: log.open(), Marked: marked, Evidence: []string{log.words()}}
	if head.image != imageNone {
		r.Evidence = append(r.Evidence, fmt.Sprintf("%s begins with %s: %s", hiberName, head.sign, head.words()))
	}
	if marked {
		r.Evidence = append(r.Evidence, fmt.Sprintf("the volume's flags are %#04x: marked dirty", flags))
	}
	switch asleep := head.image == imageWaiting || head.image == imageBegun; {
	case asleep && head.told && head.fast:
		r.State = fsys.FastStart
	case asleep && (head.told || log.valid && log.open() && log.restart.major < 2):
		r.State = fsys.Hibernated // a system that works with a log of version 1 knows no fast start
	case asleep:
		r.State = fsys.Asleep
	case marked:
		r.State = fsys.Dirty
	case log.open():
		r.State = fsys.CutOff
	default:
		r.State = fsys.ShutDown
	}
	if head.image == imageBegun {
		r.Remarks = append(r.Remarks, "it had begun to wake up and didn't come to the end")
	}
	if r.Asleep() && log.closed() {
		r.Remarks = append(r.Remarks, "its log was closed all the same, so the hibernation file may be a leftover")
	}
	if r.State != fsys.ShutDown && !r.Asleep() && head.image > imageSpent {
		r.Remarks = append(r.Remarks, "the head of its hibernation file isn't known, so it may sleep")
	}
	if r.State == fsys.CutOff && log.restart.major >= 2 {
		r.Remarks = append(r.Remarks, "or a system that sleeps on another drive has it open")
	}
	return r, nil
}

// words say what the head means.
func (h hiberHead) words() string {
	switch h.image {
	case imageWaiting:
		switch {
		case h.told && h.fast:
			return "a system wakes up from it, shut down for a fast start"
		case h.told:
			return "a system wakes up from it, with what was open"
		}
		return "a system wakes up from it"
	case imageBegun:
		return "a system began to wake up from it"
	case imageElsewhere:
		return "the image is in another place"
	case imageUnknown:
		return "that isn't known here"
	}
	return "nothing wakes up from it"
}
