package demo

import "encoding/json"

// healths are what the stand-ins say of themselves when they are asked, by their files; the others refuse.
var healths = map[string]string{
	"ticket-desk.img": `{"standard": "NVMe", "firmware": "KK2.41", "figures": {"power_on_hours": 9120,
		"power_cycles": 2204, "unsafe_shutdowns": 31, "bytes_written": 18900000000000, "bytes_read": 24100000000000,
		"spare_percent": 100, "spare_least_percent": 10, "wear_percent": 12, "temperature": 38,
		"temperature_limit": 77}}`,
	"harbour-kiosk.img": `{"standard": "ATA", "firmware": "SM1.07", "figures": {"power_on_hours": 30615,
		"power_cycles": 412, "reallocated_sectors": 0, "pending_sectors": 0, "uncorrectable_sectors": 0,
		"interface_errors": 0, "wear_percent": 41, "temperature": 44, "link_speed": 6000000000,
		"link_speed_best": 6000000000}}`,
	"purser-1.img": `{"standard": "ATA", "firmware": "DU31", "figures": {"power_on_hours": 11840, "power_cycles": 3920,
		"reallocated_sectors": 0, "pending_sectors": 0, "uncorrectable_sectors": 0, "interface_errors": 0,
		"wear_percent": 18, "temperature": 36, "link_speed": 6000000000, "link_speed_best": 6000000000}}`,
	"purser-2.img": `{"standard": "ATA", "firmware": "C5A0", "figures": {"power_on_hours": 22107, "power_cycles": 4015,
		"reallocated_sectors": 0, "pending_sectors": 0, "uncorrectable_sectors": 0, "interface_errors": 57,
		"temperature": 41, "link_speed": 3000000000, "link_speed_best": 6000000000}}`,
	"slipway-crane.img": `{"standard": "ATA", "firmware": "PT09", "figures": {"power_on_hours": 41288,
		"power_cycles": 8130, "reallocated_sectors": 64, "pending_sectors": 212, "uncorrectable_sectors": 9,
		"interface_errors": 0, "temperature": 47, "link_speed": 3000000000, "link_speed_best": 3000000000},
		"failed_test": 30214656}`,
	"chart-table.img": `{"standard": "ATA", "firmware": "GG12", "figures": {"power_on_hours": 17422,
		"power_cycles": 1230, "reallocated_sectors": 3, "pending_sectors": 0, "uncorrectable_sectors": 0,
		"interface_errors": 0, "wear_percent": 63, "temperature": 39, "link_speed": 6000000000,
		"link_speed_best": 6000000000}}`,
	"storage-oak.img": `{"standard": "ATA", "firmware": "P5.2", "figures": {"power_on_hours": 2960, "power_cycles": 310,
		"reallocated_sectors": 0, "pending_sectors": 0, "uncorrectable_sectors": 0, "interface_errors": 0,
		"temperature": 34}}`,
	CutOffTarget: `{"standard": "ATA", "firmware": "CC41", "figures": {"power_on_hours": 4, "power_cycles": 3,
		"reallocated_sectors": 0, "pending_sectors": 0, "uncorrectable_sectors": 0, "interface_errors": 0,
		"wear_percent": 0, "temperature": 29, "link_speed": 6000000000, "link_speed_best": 6000000000}}`,
}

// health is what a stand-in says of itself, for its label; nil for one that refuses.
func health(file string) json.RawMessage {
	if h, told := healths[file]; told {
		return json.RawMessage(h)
	}
	return nil
}
