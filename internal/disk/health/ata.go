package health

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// ATA Command Set, and for its way through SCSI: SCSI / ATA Translation, ATA PASS-THROUGH (16).
const (
	ataSector = 512

	ataIdentify   = 0xEC
	ataReadLogExt = 0x2F
	ataSMART      = 0xB0

	smartReadData       = 0xD0
	smartReadThresholds = 0xD1
	smartReadLog        = 0xD5
	smartReturnStatus   = 0xDA
	smartSignature      = 0xC24F00 // LBA (23:8) of every SMART command
	smartExceeded       = 0x2CF4   // LBA (23:8) of the answer of a drive that expects to fail

	logStatistics = 0x04
	logSelfTest   = 0x06
)

// ataCommand is what is put into a drive's registers.
type ataCommand struct {
	command, feature byte
	count            byte
	lba              uint32 // 24 bits
	extended         bool
}

// cdb is the command as ATA PASS-THROUGH (16); without data the registers are asked for.
func (c ataCommand) cdb(data bool) []byte {
	const pioIn, noData = 4, 3
	out := make([]byte, 16)
	out[0], out[1], out[2] = 0x85, noData<<1, 0x20 // CK_COND: the registers come as sense
	if data {
		out[1], out[2] = pioIn<<1, 0x0E // from the drive, in sectors, as COUNT says
	}
	if c.extended {
		out[1] |= 1
	}
	out[4], out[6], out[14] = c.feature, c.count, c.command
	out[8], out[10], out[12] = byte(c.lba), byte(c.lba>>8), byte(c.lba>>16)
	return out
}

// ataRead sends a command that gives one sector.
func ataRead(p port, c ataCommand) ([]byte, error) {
	c.count = max(1, c.count)
	out := make([]byte, ataSector)
	n, _, err := p.scsi(c.cdb(true), out)
	if err == nil && n < len(out) {
		err = fmt.Errorf("%w: %d of %d bytes came", errRefused, n, len(out))
	}
	return out, err
}

func smart(feature, log byte) ataCommand {
	return ataCommand{command: ataSMART, feature: feature, lba: smartSignature | uint32(log)}
}

// askATA asks an ATA drive; an error means that it doesn't answer as one.
func askATA(p port) (*Report, error) {
	id, err := ataRead(p, ataCommand{command: ataIdentify})
	if err != nil {
		return nil, err
	}
	r := newReport(ATA)
	if !r.identify(id) {
		return nil, fmt.Errorf("%w: what it says of itself isn't an ATA drive's", errRefused)
	}
	if data, failed := ataRead(p, smart(smartReadData, 0)); failed == nil && checked(data) {
		thresholds, none := ataRead(p, smart(smartReadThresholds, 0))
		if none != nil || !checked(thresholds) {
			thresholds = make([]byte, ataSector)
		}
		r.attributes(data, thresholds)
	}
	_, sense, _ := p.scsi(smart(smartReturnStatus, 0).cdb(false), nil)
	if at, ok := ataRegisters(sense); ok && at>>8 == smartExceeded {
		r.Alarms = append(r.Alarms, "its own check says that it is about to fail")
	}
	if log, failed := ataRead(p, smart(smartReadLog, logSelfTest)); failed == nil && checked(log) {
		r.SelfTest = ataSelfTest(log)
	}
	r.statistics(p)
	return r, nil
}

// identify takes what IDENTIFY DEVICE tells (ACS, IDENTIFY DEVICE data); false for something else.
func (r *Report) identify(id []byte) bool {
	word := func(n int) uint16 { return binary.LittleEndian.Uint16(id[2*n:]) }
	if word(0)&0x8000 != 0 { // a packet device
		return false
	}
	if id[510] == 0xA5 && !checked(id) {
		return false
	}
	r.Firmware = ataText(id[46:54])
	if strings.Trim(ataText(id[54:94])+ataText(id[20:40]), " ") == "" {
		return false // zeros: a bridge that says yes to everything
	}
	speeds := []int64{0, 1_500_000_000, 3_000_000_000, 6_000_000_000}
	if possible := word(76); possible != 0 && possible != 0xFFFF {
		for i := 3; i > 0; i-- {
			if possible>>i&1 == 1 {
				r.Figures[LinkBest] = speeds[i]
				break
			}
		}
		if now := int(word(77) >> 1 & 7); now > 0 && now < len(speeds) {
			r.Figures[LinkNow] = speeds[now]
		}
	}
	r.Trims = word(169)&1 == 1 && word(169) != 0xFFFF
	switch word(69) & 3 {
	case 1:
		r.Zones = "host-aware"
	case 2:
		r.Zones = "device-managed"
	}
	return true
}

// ataText is a text in which the two bytes of each word are exchanged.
func ataText(b []byte) string {
	out := make([]byte, len(b))
	for i := 0; i+1 < len(b); i += 2 {
		out[i], out[i+1] = b[i+1], b[i]
	}
	return text(out)
}

// checked says whether the bytes of a structure sum up to nothing, as those of most ATA structures do.
func checked(b []byte) bool {
	sum := byte(0)
	for _, c := range b {
		sum += c
	}
	return sum == 0 && b[0]|b[1]|b[2] != 0
}

// ataRegisters finds LBA (23:0) in the sense data of a command with CK_COND (SAT, ATA Status Return descriptor).
func ataRegisters(sense []byte) (lba uint32, ok bool) {
	if len(sense) < 8 || sense[0]&0x7F != 0x72 {
		return 0, false
	}
	for at := 8; at+14 <= len(sense); at += int(sense[at+1]) + 2 {
		if sense[at] == 0x09 && sense[at+1] == 12 {
			return uint32(sense[at+7]) | uint32(sense[at+9])<<8 | uint32(sense[at+11])<<16, true
		}
	}
	return 0, false
}

// The SMART data structure: 30 attributes of 12 bytes from byte 2 on, and as many thresholds.
const (
	attributesAt   = 2
	attributeLen   = 12
	mostAttributes = 30
)

// attributes takes the attributes whose meaning makers agree on. Raw values are the makers' own, so only such are taken
// as can't be mistaken.
func (r *Report) attributes(data, thresholds []byte) {
	least := map[byte]byte{}
	for i := range mostAttributes {
		b := thresholds[attributesAt+i*attributeLen:]
		least[b[0]] = b[1]
	}
	for i := range mostAttributes {
		b := data[attributesAt+i*attributeLen:]
		id, flags, value := b[0], binary.LittleEndian.Uint16(b[1:]), b[3]
		if id == 0 {
			continue
		}
		raw := binary.LittleEndian.Uint64(b[5:13]) & (1<<48 - 1)
		r.attribute(id, value, raw)
		const preFailure = 1
		if t := least[id]; t > 0 && t < 0xFE && value > 0 && value <= t && flags&preFailure != 0 {
			r.Alarms = append(r.Alarms, fmt.Sprintf("%s has fallen to %d; its maker's limit is %d", attributeName(id),
				value, t))
		}
	}
}

// attributeNames are those that the trade knows.
var attributeNames = map[byte]string{1: "the read error rate", 3: "the spin-up time", 5: "the stock of spare sectors",
	7: "the seek error rate", 10: "spin-up retries", 184: "end-to-end errors", 187: "uncorrectable errors",
	196: "reallocation events", 197: "pending sectors", 198: "uncorrectable sectors", 230: "the life curve",
	231: "the life left", 232: "the spare blocks left", 233: "the wear of the flash memory"}

func attributeName(id byte) string {
	if n, ok := attributeNames[id]; ok {
		return n
	}
	return fmt.Sprintf("attribute %d", id)
}

func (r *Report) attribute(id, value byte, raw uint64) {
	low := int64(raw & 0xFFFFFFFF) // many makers keep something else above
	switch id {
	case 5:
		r.Figures[Reallocated] = low
	case 9:
		r.Figures[Hours] = low & 0xFFFFFF
	case 12:
		r.Figures[Starts] = low
	case 187:
		r.Figures[MediaErrors] = low & 0xFFFF
	case 190, 194:
		if t := int64(int8(raw)); t > 0 && (id == 194 || r.Figures[Temperature] == 0) {
			r.Figures[Temperature] = t
		}
	case 197:
		r.Figures[Pending] = low
	case 198:
		r.Figures[Uncorrectable] = low
	case 199:
		r.Figures[LinkErrors] = low
	case 177, 233:
		if value <= 100 {
			r.Figures[Wear] = max(r.Figures[Wear], 100-int64(value))
		}
	}
}

// The self-test log: 21 entries of 24 bytes from byte 2 on, the number of the newest in byte 508.
const (
	selfTestsAt   = 2
	selfTestLen   = 24
	mostSelfTests = 21
)

// ataTestWords say how a self-test ended, by the upper half of its status.
var ataTestWords = []string{"passed", "stopped by the host", "stopped by a reset", "ended by a fatal error",
	"failed, in a part that isn't told", "failed in the electronics", "failed in seeking", "failed in reading",
	"failed; it may have been damaged by handling"}

func ataSelfTest(log []byte) *SelfTest {
	newest := int(log[508])
	if newest < 1 || newest > mostSelfTests {
		return nil
	}
	b := log[selfTestsAt+(newest-1)*selfTestLen:]
	how := int(b[1] >> 4)
	if how >= len(ataTestWords) {
		return nil // under way, or something newer
	}
	t := &SelfTest{Passed: how < 3, Words: ataTestWords[how], Hours: int64(binary.LittleEndian.Uint16(b[2:])),
		Sector: -1}
	if at := binary.LittleEndian.Uint32(b[5:]); how == 7 && at != 0xFFFFFFFF {
		t.Sector = int64(at)
	}
	return t
}

// A page of the Device Statistics log has its number in byte 2 and statistics of eight bytes.
var statistics = []struct {
	page byte
	at   int
	of   Figure
	unit int64
}{
	{1, 8, Starts, 1}, {1, 16, Hours, 1}, {1, 24, BytesWritten, ataSector}, {1, 40, BytesRead, ataSector},
	{3, 32, Reallocated, 1}, {4, 8, MediaErrors, 1}, {5, 8, Temperature, 1}, {5, 88, Hottest, 1}, {6, 24, LinkErrors,
		1},
	{7, 8, Wear, 1},
}

// statistics takes the Device Statistics log, which means the same with every maker, over the attributes.
func (r *Report) statistics(p port) {
	list, err := ataRead(p, ataCommand{command: ataReadLogExt, lba: logStatistics, extended: true})
	if err != nil || list[2] != 0 {
		return
	}
	there := list[9 : 9+min(int(list[8]), 32)] // the numbers of the pages
	pages := map[byte][]byte{}
	for _, s := range statistics {
		if !strings.Contains(string(there), string([]byte{s.page})) {
			continue
		}
		if _, asked := pages[s.page]; !asked {
			b, failed := ataRead(p, ataCommand{command: ataReadLogExt, lba: logStatistics | uint32(s.page)<<8,
				extended: true})
			if failed != nil || b[2] != s.page {
				b = make([]byte, ataSector)
			}
			pages[s.page] = b
		}
		q := binary.LittleEndian.Uint64(pages[s.page][s.at:])
		const supported, valid = 1 << 63, 1 << 62
		if q&supported == 0 || q&valid == 0 {
			continue
		}
		n := int64(q & (1<<48 - 1))
		if s.of == Temperature || s.of == Hottest {
			n = int64(int8(q))
		}
		r.Figures[s.of] = n * s.unit
	}
}
