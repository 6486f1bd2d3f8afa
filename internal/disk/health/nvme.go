package health

import (
	"encoding/binary"
	"math"
)

// NVM Express Base Specification: Identify and Get Log Page.
const (
	nvmeGetLogPage = 0x02
	nvmeIdentify   = 0x06

	identifyController = 1
	identifyLen        = 4096

	logHealth    = 0x02
	logHealthLen = 512
	logOwnTests  = 0x06
	ownTestsLen  = 564
	everywhere   = 0xFFFFFFFF // the namespace of the whole controller

	kelvin = 273
)

// adminCommand is a command to a controller that gives data.
type adminCommand struct {
	opcode    byte
	namespace uint32
	cdw10     uint32
}

func logPage(id byte, length int) adminCommand {
	return adminCommand{nvmeGetLogPage, everywhere, uint32(id) | uint32(length/4-1)<<16}
}

// askNVMe asks an NVMe controller.
func askNVMe(p port) (*Report, error) {
	r := newReport(NVMe)
	id := make([]byte, identifyLen)
	if err := p.admin(adminCommand{opcode: nvmeIdentify, cdw10: identifyController}, id); err != nil {
		return nil, err
	}
	r.Firmware = text(id[64:72])
	if limit := binary.LittleEndian.Uint16(id[266:]); limit > kelvin {
		r.Figures[Hottest] = int64(limit) - kelvin
	}
	const datasetManagement = 1 << 2
	r.Trims = binary.LittleEndian.Uint16(id[520:])&datasetManagement != 0
	log := make([]byte, logHealthLen)
	if err := p.admin(logPage(logHealth, len(log)), log); err != nil {
		return nil, err
	}
	r.healthLog(log)
	const ownTests = 1 << 4
	if binary.LittleEndian.Uint16(id[256:])&ownTests != 0 {
		tests := make([]byte, ownTestsLen)
		if err := p.admin(logPage(logOwnTests, len(tests)), tests); err == nil {
			r.SelfTest = nvmeSelfTest(tests)
		}
	}
	return r, nil
}

// criticalWarnings are the bits of the first byte of the health log.
var criticalWarnings = []struct {
	alarm bool
	words string
}{
	{true, "its spare blocks are used up below its maker's limit"},
	{false, "it is or was hotter or colder than it may be"},
	{true, "it says that it isn't reliable any more"},
	{true, "it has made itself read-only"},
	{false, "the backup of its volatile memory has failed"},
}

// healthLog takes the SMART / Health Information log page.
func (r *Report) healthLog(b []byte) {
	for i, w := range criticalWarnings {
		switch {
		case b[0]>>i&1 == 0:
		case w.alarm:
			r.Alarms = append(r.Alarms, w.words)
		default:
			r.Cautions = append(r.Cautions, w.words)
		}
	}
	if t := binary.LittleEndian.Uint16(b[1:]); t > 0 {
		r.Figures[Temperature] = int64(t) - kelvin
	}
	r.Figures[Spare], r.Figures[SpareLeast], r.Figures[Wear] = int64(b[3]), int64(b[4]), int64(b[5])
	const unit = 512_000 // bytes of a data unit
	for _, c := range []struct {
		at   int
		of   Figure
		unit int64
	}{{32, BytesRead, unit}, {48, BytesWritten, unit}, {112, Starts, 1}, {128, Hours, 1}, {144, UnsafeOffs, 1},
		{160, MediaErrors, 1}} {
		r.Figures[c.of] = wide(b[c.at:], c.unit)
	}
}

// wide is a number of 16 bytes times its unit, the largest there is when it is larger.
func wide(b []byte, unit int64) int64 {
	low, high := binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:])
	if high != 0 || low > uint64(math.MaxInt64/unit) {
		return math.MaxInt64
	}
	return int64(low) * unit
}

// nvmeTestWords say how a self-test ended.
var nvmeTestWords = []string{"passed", "stopped by the host", "stopped by a reset", "stopped: a namespace was removed",
	"stopped by a format", "ended by a fatal error", "failed, in a part that isn't told", "failed", "stopped",
	"stopped by an erasure"}

func nvmeSelfTest(b []byte) *SelfTest {
	b = b[4:] // the newest result
	how := int(b[0] & 0xF)
	if how >= len(nvmeTestWords) {
		return nil
	}
	t := &SelfTest{Passed: how < 5 || how > 7, Words: nvmeTestWords[how], Sector: -1,
		Hours: int64(min(binary.LittleEndian.Uint64(b[4:]), math.MaxInt64))}
	const sectorTold = 1 << 1
	if b[2]&sectorTold != 0 {
		t.Sector = int64(min(binary.LittleEndian.Uint64(b[16:]), math.MaxInt64))
	}
	return t
}
