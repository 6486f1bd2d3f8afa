package ntfs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"twinshelf/internal/fsys"
)

// The change journal is a file of the system's own, $Extend\$UsnJrnl. Its stream $Max says which journal it is, $J has
// a record for every file that was changed since it was opened; a record's number is its place there ([MS-FSCC] and
// USN_RECORD_V2 to V4). The beginning is given back as the journal grows.
const (
	changesName = "$UsnJrnl"
	changesHead = "$Max"
	changesBody = "$J"

	maxID     = 16 // of the journal, 8 bytes
	maxLowest = 24 // number of the oldest record that is valid
	maxLen    = 32

	changePage   = 4096 // no record crosses the end of one; what is left of it is zeros
	changeMajor  = 4
	changeFile   = 8 // reference of the file
	changeSelf   = 24
	changeSelf3  = 40 // from version 3 on, whose references have 16 bytes
	changeLeast  = 60
	changeMost   = 8 << 10
	mostChanges  = 8 << 20 // files that are told apart
	mostChanging = 4 << 30 // bytes of records that are read
)

// changes is a change journal.
type changes struct {
	id     uint64
	lowest int64
	body   fsys.Contents
}

// errNoChanges says why a change journal tells nothing.
var errNoChanges = errors.New("no change journal")

// changesOf opens the volume's change journal.
func changesOf(v *Volume) (*changes, error) {
	extend, err := v.readRecord(recExtend)
	if err != nil {
		return nil, err
	}
	var at ref
	err = v.index(extend, func(e indexEntry) bool {
		if strings.EqualFold(e.name, changesName) {
			at = ref(e.ref)
		}
		return at == 0
	})
	if err != nil || at == 0 {
		return nil, cmp.Or(err, errNoChanges)
	}
	rec, err := tree{v}.open(at)
	if err != nil {
		return nil, err
	}
	head, err := streamContents(v, rec, changesHead)
	if err != nil {
		return nil, err
	}
	b := make([]byte, maxLen)
	if n, err := head.ReadAt(b, 0); n < maxLen {
		return nil, fmt.Errorf("%w: its head can't be read (%w)", errNoChanges, cmp.Or(err, io.ErrUnexpectedEOF))
	}
	c := &changes{id: binary.LittleEndian.Uint64(b[maxID:]), lowest: int64(binary.LittleEndian.Uint64(b[maxLowest:]))}
	c.body, err = streamContents(v, rec, changesBody)
	return c, err
}

// streamContents opens a named stream of a record.
func streamContents(v *Volume, rec *record, name string) (fsys.Contents, error) {
	s, err := v.stream(rec, attrData, name)
	if err != nil {
		return nil, err
	}
	if !s.found {
		return nil, fmt.Errorf("%w: it has no %s", errNoChanges, name)
	}
	return v.contents(s, rec.at)
}

// page reads the page that byte at lies in, as far as the journal goes.
func (c *changes) page(at int64) ([]byte, error) {
	start := at / changePage * changePage
	b := make([]byte, min(changePage, max(0, c.body.Size()-start)))
	n, err := c.body.ReadAt(b, start)
	if n < len(b) {
		return nil, cmp.Or(err, io.ErrUnexpectedEOF)
	}
	return b, nil
}

// walk gives the files of the records in a page that begin at byte from of it or later, and where the last one ends.
func walk(page []byte, start, from int64, each func(file int64)) (end int64, err error) {
	le := binary.LittleEndian
	at := from
	for at+changeLeast <= int64(len(page)) {
		b := page[at:]
		length := int64(le.Uint32(b))
		if length == 0 {
			break
		}
		major, self := le.Uint16(b[4:]), int64(changeSelf)
		if major > 2 {
			self = changeSelf3
		}
		if length < changeLeast || length > min(changeMost, int64(len(b))) || major < 2 || major > changeMajor ||
			int64(le.Uint64(b[self:])) != start+at {
			return 0, fmt.Errorf("%w: byte %d of it holds no record", errNoChanges, start+at)
		}
		each(int64(le.Uint64(b[changeFile:]) & recNumberBytes))
		at += length
	}
	if len(bytes.Trim(page[at:], "\x00")) > 0 {
		return 0, fmt.Errorf("%w: byte %d of it holds no record", errNoChanges, start+at)
	}
	return at, nil
}

// next is where the next record will be.
func (c *changes) next() (int64, error) {
	size := c.body.Size()
	if size == 0 {
		return 0, nil
	}
	page, err := c.page(size - 1)
	if err != nil {
		return 0, err
	}
	start := (size - 1) / changePage * changePage
	end, err := walk(page, start, 0, func(int64) {})
	if err == nil && end == 0 {
		err = fmt.Errorf("%w: its end holds no record", errNoChanges)
	}
	return start + end, err
}

// changedSince are the files that the journal names since the volume was as old is, by the numbers of their records, in
// order. It is errNoChanges where it doesn't reach back so far, or isn't the same one.
func changedSince(ctx context.Context, v, old *Volume) ([]int64, error) {
	was, err := changesOf(old)
	if err != nil {
		return nil, err
	}
	now, err := changesOf(v)
	if err != nil {
		return nil, err
	}
	from, err := was.next()
	if err != nil {
		return nil, err
	}
	end, err := now.next()
	if err != nil {
		return nil, err
	}
	switch {
	case now.id == 0 || now.id != was.id:
		return nil, fmt.Errorf("%w: it was begun anew since", errNoChanges)
	case now.lowest > from || end < from:
		return nil, fmt.Errorf("%w: it doesn't reach back to then", errNoChanges)
	case end-from > mostChanging:
		return nil, fmt.Errorf("%w: it has too many records since then", errNoChanges)
	}
	if err := now.continues(was, from); err != nil {
		return nil, err
	}
	return now.files(ctx, from, end)
}

// continues says whether the records before byte from are those that the journal had.
func (c *changes) continues(was *changes, from int64) error {
	if from == 0 {
		return nil
	}
	a, err := was.page(from - 1)
	if err != nil {
		return err
	}
	b, err := c.page(from - 1)
	if err != nil {
		return err
	}
	n := (from-1)%changePage + 1
	if int64(len(b)) < n || !bytes.Equal(a[:n], b[:n]) {
		return fmt.Errorf("%w: it doesn't go on from where it was", errNoChanges)
	}
	return nil
}

// files are those that the records between two bytes name, in order and each once.
func (c *changes) files(ctx context.Context, from, end int64) ([]int64, error) {
	var all []int64
	for at := from; at < end; at = (at/changePage + 1) * changePage {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		page, err := c.page(at)
		if err != nil {
			return nil, err
		}
		start := at / changePage * changePage
		to, err := walk(page, start, at-start, func(file int64) { all = append(all, file) })
		if err != nil {
			return nil, err
		}
		if to == 0 {
			return nil, fmt.Errorf("%w: it has a hole at byte %d", errNoChanges, start)
		}
		if len(all) > mostChanges {
			slices.Sort(all)
			if all = slices.Compact(all); len(all) > mostChanges/2 {
				return nil, fmt.Errorf("%w: it names too many files", errNoChanges)
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all), nil
}
