// Package demo makes a bench of stand-in disks and a shelf with dated twins: the
// machines of a small island ferry line. The file systems are real, made by the
// operating system's own tools (scripts/demo-data/make.sh); the disks are sparse
// files of the sizes on their stickers.
package demo

import (
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// part is one part of a stand-in disk. Data names its states in data/: with one state
// "NAME.tar.zst", with several "NAME.0.tar.zst", "NAME.1.tar.zst" …
type part struct {
	table.Part
	data   string
	states int
}

// stand is one stand-in disk.
type stand struct {
	file  string
	label disk.Label
	size  int64 // bytes, as on the sticker
	kind  table.Kind
	id    string
	parts []part
	// unreadable says that the drive is failing: some places in the middle of its largest file can't be read.
	unreadable bool
}

// machine is what belongs to one customer's machine.
type machine struct {
	name  string
	disks []stand
	// dates are when its twins were taken; state i of its parts is on the disks at date i, and the one after the last
	// date is there now.
	dates []string
	// weighs says that each date rewrites some of what was weighed, in place.
	weighs bool
}

// weekly are n dates, a week apart, up to the last one.
func weekly(n int, last string) []string {
	end, err := time.Parse(time.RFC3339, last)
	if err != nil {
		return nil
	}
	out := make([]string, n)
	for i := range out {
		out[i] = end.AddDate(0, 0, -7*(n-1-i)).Format(time.RFC3339)
	}
	return out
}

func at(number int, startMiB, sizeMiB int64, kind, guid, name, data string, states int) part {
	return part{table.Part{Number: number, Span: span.At(startMiB*units.MiB, sizeMiB*units.MiB), Type: kind, GUID: guid,
		Name: name}, data, states}
}

func guid(tail string) string { return "7A5E0F10-3B1C-4D5A-9C00-0000000" + tail }

var machines = []machine{
	{name: "Ticket desk", disks: []stand{{
		"ticket-desk.img", disk.Label{Model: "Kestrel K2 256", Serial: "KK2-55A1940B1", Bus: "NVMe"}, 256_060_514_304,
		table.GPT, guid("0D001"), []part{
			at(1, 1, 100, table.TypeESP, guid("0D101"), "EFI system", "desk-esp", 0),
			at(2, 101, 16, table.TypeMSReserved, guid("0D102"), "Reserved", "", 0),
			at(3, 117, 237_000, table.TypeMSBasicData, guid("0D103"), "Basic data", "desk-system", 4),
			at(4, 237_117, 600, table.TypeMSRecovery, guid("0D104"), "Recovery", "desk-recovery", 1),
		}, false}}, dates: []string{"2026-10-02T17:42:00+02:00", "2026-10-30T18:05:00+01:00",
		"2026-11-20T17:58:00+01:00"}},
	{name: "Harbour kiosk", disks: []stand{{
		"harbour-kiosk.img", disk.Label{Model: "Sandmartin S 64", Serial: "SM640027C3E9", Bus: "SATA"}, 64_023_257_088,
		table.GPT, guid("0E001"), []part{
			at(1, 1, 100, table.TypeESP, guid("0E101"), "EFI system", "kiosk-esp", 0),
			at(2, 101, 56_000, table.TypeLinuxData, guid("0E102"), "kiosk", "kiosk-root", 4),
			at(3, 56_101, 4_000, table.TypeLinuxSwap, guid("0E103"), "swap", "kiosk-swap", 0),
		}, false}}, dates: []string{"2026-09-14T20:30:00+02:00", "2026-10-19T20:31:00+02:00",
		"2026-11-16T20:30:00+01:00"}},
	{name: "Purser's laptop", disks: []stand{
		{"purser-1.img", disk.Label{Model: "Dunlin D 128", Serial: "DU128-77F20A64", Bus: "SATA"}, 128_035_676_160,
			table.GPT, guid("0F001"), []part{
				at(1, 1, 100, table.TypeESP, guid("0F101"), "EFI system", "purser-esp", 0),
				at(2, 101, 121_000, table.TypeLinuxData, guid("0F102"), "system", "purser-root", 2),
			}, false},
		{"purser-2.img", disk.Label{Model: "Cormorant C 500", Serial: "CC500-0031D98F", Bus: "SATA", Rotational: true},
			500_107_862_016, table.MBR, "5ea0d002", []part{
				at(1, 1, 476_000, "0x07", "", "", "purser-manifests", 2),
			}, false},
	}, dates: []string{"2026-10-05T09:12:00+02:00", "2026-11-09T09:20:00+01:00"}},
	{name: "Weighbridge", weighs: true, disks: []stand{{
		"weighbridge.img", disk.Label{Model: "Turnstone CF 4", Serial: "TCF4-1998A0D2", Bus: "PATA", Removable: true},
		4_009_754_624, table.MBR, "00b21d9e", []part{
			{table.Part{Number: 1, Span: span.At(63*512, 2_000*units.MiB), Type: "0x06", Active: true},
				"weighbridge", 0},
		}, false}}, dates: weekly(60, "2026-11-26T14:03:00+01:00")},
	{name: "Slipway crane", disks: []stand{{
		"slipway-crane.img", disk.Label{Model: "Petrel P 32", Serial: "PT32-9C04E6F5", Bus: "SATA"}, 32_017_047_552,
		table.MBR, "0c4a9e01", []part{
			at(1, 1, 28_000, "0x83", "", "", "crane-root", 1),
		}, true}}, dates: []string{"2026-11-24T11:15:00+01:00"}},
	{name: "Booking office", disks: []stand{{
		"booking-office.img", disk.Label{Model: "Shearwater S 32", Serial: "SW32-B00C14F6", Bus: "eMMC"},
		31_268_536_320,
		table.GPT, guid("01001"), []part{
			at(1, 1, 100, table.TypeESP, guid("01101"), "EFI system", "booking-esp", 0),
			at(2, 101, 16, table.TypeMSReserved, guid("01102"), "Reserved", "", 0),
			at(3, 117, 29_000, table.TypeMSBasicData, guid("01103"), "Basic data", "booking-locked", 0),
		}, false}}},
	{name: "Chart table", disks: []stand{{
		"chart-table.img", disk.Label{Model: "Guillemot G 120", Serial: "GG120-4471CB38", Bus: "SATA"}, 120_034_123_776,
		table.MBR, "00c4a47b", []part{
			at(1, 1, 114_000, "0x07", "", "", "chart-table", 2),
		}, false}}, dates: []string{"2026-09-03T16:40:00+02:00"}},
}

// BookingKey is the recovery key of the Booking office, whose system is locked and sleeps. The demo has it on a paper.
const BookingKey = "331892-479721-621170-445797-238491-104797-365420-099176"

// CutOffTarget is the file of the disk on which a restore of CutOffMachine was cut off.
const CutOffTarget, CutOffMachine = "curlew-480.img", "Harbour kiosk"

// others are the disks that belong to the workshop.
var others = []stand{
	{"heron-1tb.img", disk.Label{Model: "Heron H1 1 TB", Serial: "HH1-90C2E7731", Bus: "USB"}, 1_000_204_886_016,
		table.None, "", nil, false},
	{"storage-oak.img", disk.Label{Model: "Plover P5 2 TB", Serial: "PP5-3300B41C8", Bus: "USB", Rotational: true},
		2_000_398_934_016, table.GPT, guid("0A001"), []part{
			at(1, 1, 1_900_000, table.TypeLinuxData, guid("0A101"), "oak", "oak", 0),
		}, false},
	{CutOffTarget, disk.Label{Model: "Curlew C 480", Serial: "CC480-6D1E9A27", Bus: "SATA"}, 480_103_981_056,
		table.None, "", nil, false},
}
