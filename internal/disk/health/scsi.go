package health

import (
	"encoding/binary"
	"fmt"
	"iter"
)

// SCSI Primary Commands (INQUIRY, LOG SENSE) and SCSI Block Commands (READ DEFECT DATA).
const (
	scsiInquiry    = 0x12
	scsiLogSense   = 0x4D
	scsiReadDefect = 0x37

	inquiryLen = 36
	logLen     = 1024
)

// inquiry tells what kind of thing it is and who made it.
type inquiry struct {
	vendor, revision string
	disk             bool
}

func inquire(p port) (inquiry, error) {
	b := make([]byte, inquiryLen)
	n, _, err := p.scsi([]byte{scsiInquiry, 0, 0, 0, inquiryLen, 0}, b)
	if err == nil && n < inquiryLen {
		err = fmt.Errorf("%w: %d bytes of its name came", errRefused, n)
	}
	const directAccess, zoned = 0x00, 0x14
	kind := b[0] & 0x1F
	return inquiry{text(b[8:16]), text(b[32:36]), kind == directAccess || kind == zoned}, err
}

// logParameters gives the parameters of a log page: numbers and values.
func logParameters(p port, page byte) iter.Seq2[uint16, []byte] {
	return func(yield func(uint16, []byte) bool) {
		b := make([]byte, logLen)
		const cumulative = 1 << 6
		n, _, err := p.scsi([]byte{scsiLogSense, 0, cumulative | page, 0, 0, 0, 0, logLen >> 8, logLen & 0xFF, 0}, b)
		if err != nil || n < 4 || b[0]&0x3F != page {
			return
		}
		b = b[4:min(n, 4+int(binary.BigEndian.Uint16(b[2:])))]
		for len(b) >= 4 {
			end := min(len(b), 4+int(b[3]))
			if !yield(binary.BigEndian.Uint16(b), b[4:end]) {
				return
			}
			b = b[end:]
		}
	}
}

// askSCSI asks a drive that speaks SCSI itself; an error means that it told no more than its name.
func askSCSI(p port, i inquiry) (*Report, error) {
	r := newReport(SCSI)
	r.Firmware = i.revision
	for _, page := range scsiPages {
		for number, v := range logParameters(p, page.number) {
			page.take(r, number, v)
		}
	}
	b := make([]byte, 4)
	const grown, bySector = 1 << 3, 5
	if n, _, err := p.scsi([]byte{scsiReadDefect, 0, grown | bySector, 0, 0, 0, 0, 0, 4, 0}, b); err == nil && n == 4 {
		if b[1]&grown != 0 && b[1]&7 == bySector {
			r.Figures[Reallocated] = int64(binary.BigEndian.Uint16(b[2:]) / 8)
		}
	}
	if len(r.Figures) == 0 && r.SelfTest == nil && len(r.Alarms) == 0 {
		return nil, fmt.Errorf("%w: it keeps no figures that it tells", errRefused)
	}
	return r, nil
}

// scsiPages are the log pages that are read, in this order, and what is taken of their parameters.
var scsiPages = []struct {
	number byte
	take   func(r *Report, parameter uint16, v []byte)
}{
	{0x03, func(r *Report, n uint16, v []byte) { // read error counters
		if n == 6 {
			r.Figures[MediaErrors] = number(v)
		}
	}},
	{0x0D, func(r *Report, n uint16, v []byte) { // temperature
		if len(v) >= 2 && v[1] != 0xFF {
			r.Figures[map[bool]Figure{true: Temperature, false: Hottest}[n == 0]] = int64(v[1])
		}
	}},
	{0x0E, func(r *Report, n uint16, v []byte) { // start-stop cycles
		if n == 4 {
			r.Figures[Starts] = number(v)
		}
	}},
	{0x10, scsiSelfTest},
	{0x11, func(r *Report, n uint16, v []byte) { // solid state media
		if n == 1 && len(v) >= 4 {
			r.Figures[Wear] = int64(v[3])
		}
	}},
	{0x15, func(r *Report, n uint16, v []byte) { // background scan
		if n == 0 && len(v) >= 4 {
			r.Figures[Hours] = int64(binary.BigEndian.Uint32(v)) / 60
		}
	}},
	{0x2F, func(r *Report, n uint16, v []byte) { // informational exceptions
		if n == 0 && len(v) >= 2 && v[0] == 0x5D {
			r.Alarms = append(r.Alarms, fmt.Sprintf("its own check says that it is about to fail (code 5Dh, %02Xh)",
				v[1]))
		}
	}},
}

// number is a counter of up to eight bytes.
func number(v []byte) int64 {
	n := int64(0)
	for _, c := range v[max(0, len(v)-7):] {
		n = n<<8 | int64(c)
	}
	return n
}

// scsiTestWords say how a self-test ended.
var scsiTestWords = []string{"passed", "stopped by the host", "stopped by a reset", "ended by an unknown error",
	"failed, in a part that isn't told", "failed in its first part", "failed in its second part", "failed"}

func scsiSelfTest(r *Report, n uint16, v []byte) {
	if n != 1 || len(v) < 16 || int(v[0]&0xF) >= len(scsiTestWords) {
		return
	}
	how := int(v[0] & 0xF)
	hours := int64(binary.BigEndian.Uint16(v[2:]))
	if how == 0 && hours == 0 && v[0]>>5 == 0 {
		return // an entry that nobody has filled in
	}
	r.SelfTest = &SelfTest{Passed: how < 3, Words: scsiTestWords[how], Hours: hours, Sector: -1}
	if at := binary.BigEndian.Uint64(v[4:]); how > 3 && at < 1<<62 {
		r.SelfTest.Sector = int64(at)
	}
}
