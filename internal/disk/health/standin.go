package health

import (
	"encoding/binary"
	"encoding/json"
	"time"

	"twinshelf/internal/disk"
)

// standIn is a made-up drive that answers like a real one, byte for byte, from what the label of an image file says.
type standIn struct {
	Standard Standard         `json:"standard"`
	Firmware string           `json:"firmware"`
	Figures  map[Figure]int64 `json:"figures"`
	// Fails has it say that it is about to fail, Refuses no figures at all.
	Fails   bool `json:"fails"`
	Refuses bool `json:"refuses"`
	// FailedTest has its last self-test have failed in reading, at the sector.
	FailedTest int64 `json:"failed_test"`
	// Hangs is for how many seconds it doesn't answer.
	Hangs float64 `json:"hangs"`
}

// standInOf is the drive that the label of an image file describes.
func standInOf(path string) (*standIn, bool) {
	l, err := disk.ReadLabel(path)
	if err != nil || len(l.Health) == 0 {
		return nil, false
	}
	s := &standIn{}
	if err := json.Unmarshal(l.Health, s); err != nil {
		return nil, false
	}
	return s, true
}

const longestHang = 60

func (s *standIn) hangs() time.Duration {
	return time.Duration(min(max(0, s.Hangs), longestHang) * float64(time.Second))
}

func (s *standIn) scsi(cdb, data []byte) (int, []byte, error) {
	switch {
	case cdb[0] == scsiInquiry:
		name := "ATA     "
		if s.Standard == SCSI {
			name = "STAND-IN"
		}
		copy(data[8:], name+"stand-in        ")
		copy(data[32:], s.Firmware)
		return len(data), nil, nil
	case s.Refuses:
	case s.Standard == ATA && cdb[0] == 0x85:
		return s.ata(cdb, data)
	case s.Standard == SCSI && cdb[0] == scsiLogSense:
		return s.logSense(cdb[2]&0x3F, data), nil, nil
	}
	return 0, nil, errRefused
}

func (s *standIn) ata(cdb, data []byte) (int, []byte, error) {
	switch cdb[14] {
	case ataIdentify:
		s.identify(data)
	case ataReadLogExt:
		s.statistics(cdb[10], data)
	case ataSMART:
		switch cdb[4] {
		case smartReadData:
			s.attributes(data)
		case smartReadThresholds:
			thresholds(data)
		case smartReadLog:
			s.testLog(data)
		case smartReturnStatus:
			at := uint32(smartSignature)
			if s.Fails {
				at = smartExceeded << 8
			}
			sense := make([]byte, 22)
			sense[0], sense[1], sense[7], sense[8], sense[9] = 0x72, 1, 14, 0x09, 12
			sense[8+9], sense[8+11] = byte(at>>8), byte(at>>16)
			return 0, sense, nil
		}
	}
	return len(data), nil, nil
}

func (s *standIn) identify(b []byte) {
	put := func(at int, t string) {
		for i, c := range []byte(t) {
			b[at+i^1] = c
		}
	}
	b[0] = 0x40 // a fixed drive
	put(46, s.Firmware)
	put(54, "stand-in")
	word := func(n int, v uint16) { binary.LittleEndian.PutUint16(b[2*n:], v) }
	if best := s.Figures[LinkBest] / 1_500_000_000; best > 0 { // 1, 2 or 4 times the first speed
		word(76, 1<<(1+best/2)|1<<1)
		word(77, uint16(1+s.Figures[LinkNow]/1_500_000_000/2)<<1)
	}
	if _, flash := s.Figures[Wear]; flash {
		word(169, 1)
	}
	b[510] = 0xA5
	seal(b)
}

// seal makes the bytes sum up to nothing.
func seal(b []byte) {
	sum := byte(0)
	for _, c := range b[:len(b)-1] {
		sum += c
	}
	b[len(b)-1] = -sum
}

func (s *standIn) attributes(b []byte) {
	b[0] = 16
	at := attributesAt
	for _, a := range []struct {
		id byte
		of Figure
	}{{5, Reallocated}, {9, Hours}, {12, Starts}, {194, Temperature}, {197, Pending}, {198, Uncorrectable},
		{199, LinkErrors}} {
		n, told := s.Figures[a.of]
		if !told {
			continue
		}
		b[at], b[at+1], b[at+3], b[at+4] = a.id, 3, 100, 100
		binary.LittleEndian.PutUint32(b[at+5:], uint32(n))
		at += attributeLen
	}
	seal(b)
}

func thresholds(b []byte) {
	b[0] = 16
	b[attributesAt], b[attributesAt+1] = 5, 10
	seal(b)
}

func (s *standIn) testLog(b []byte) {
	b[0] = 1
	e := b[selfTestsAt:]
	e[0] = 2
	binary.LittleEndian.PutUint16(e[2:], uint16(s.Figures[Hours]))
	binary.LittleEndian.PutUint32(e[5:], 0xFFFFFFFF)
	if s.FailedTest > 0 {
		e[1] = 7 << 4
		binary.LittleEndian.PutUint32(e[5:], uint32(s.FailedTest))
	}
	b[508] = 1
	seal(b)
}

func (s *standIn) statistics(page byte, b []byte) {
	b[0], b[2] = 1, page
	if page == 0 {
		b[8] = 5
		copy(b[9:], []byte{0, 1, 5, 6, 7})
		return
	}
	for _, st := range statistics {
		if n, told := s.Figures[st.of]; told && st.page == page {
			binary.LittleEndian.PutUint64(b[st.at:], 3<<62|uint64(n/st.unit)&(1<<48-1))
		}
	}
}

func (s *standIn) admin(c adminCommand, b []byte) error {
	switch {
	case s.Refuses:
		return errRefused
	case c.opcode == nvmeIdentify:
		copy(b[64:72], s.Firmware)
		binary.LittleEndian.PutUint16(b[266:], uint16(s.Figures[Hottest]+kelvin))
		binary.LittleEndian.PutUint16(b[256:], 1<<4)
		binary.LittleEndian.PutUint16(b[520:], 1<<2)
	case byte(c.cdw10) == logOwnTests:
		s.ownTests(b)
	default:
		s.healthLog(b)
	}
	return nil
}

func (s *standIn) ownTests(b []byte) {
	if s.FailedTest > 0 {
		b[4], b[6] = 1<<4|7, 1<<1
		binary.LittleEndian.PutUint64(b[20:], uint64(s.FailedTest))
	}
	binary.LittleEndian.PutUint64(b[8:], uint64(s.Figures[Hours]))
}

func (s *standIn) healthLog(b []byte) {
	if s.Fails {
		b[0] = 1 << 2
	}
	binary.LittleEndian.PutUint16(b[1:], uint16(s.Figures[Temperature]+kelvin))
	b[3], b[4], b[5] = byte(s.Figures[Spare]), byte(s.Figures[SpareLeast]), byte(s.Figures[Wear])
	const unit = 512_000
	for at, n := range map[int]int64{32: s.Figures[BytesRead] / unit, 48: s.Figures[BytesWritten] / unit,
		112: s.Figures[Starts], 128: s.Figures[Hours], 144: s.Figures[UnsafeOffs], 160: s.Figures[MediaErrors]} {
		binary.LittleEndian.PutUint64(b[at:], uint64(n))
	}
}

// logSense answers with the parameters that the figures have a place in.
func (s *standIn) logSense(page byte, b []byte) int {
	b[0] = page
	n := 4
	put := func(parameter uint16, v ...byte) {
		binary.BigEndian.PutUint16(b[n:], parameter)
		b[n+3] = byte(len(v))
		n += 4 + copy(b[n+4:], v)
	}
	long := func(f Figure) []byte { return binary.BigEndian.AppendUint32(nil, uint32(s.Figures[f])) }
	switch page {
	case 0x03:
		put(6, long(MediaErrors)...)
	case 0x0D:
		put(0, 0, byte(s.Figures[Temperature]))
		put(1, 0, byte(s.Figures[Hottest]))
	case 0x0E:
		put(4, long(Starts)...)
	case 0x15:
		put(0, binary.BigEndian.AppendUint32(nil, uint32(s.Figures[Hours]*60))...)
	case 0x2F:
		code := byte(0)
		if s.Fails {
			code = 0x5D
		}
		put(0, code, 0x10, byte(s.Figures[Temperature]))
	}
	binary.BigEndian.PutUint16(b[2:], uint16(n-4))
	return n
}
