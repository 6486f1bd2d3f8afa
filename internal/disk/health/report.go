// Package health asks a drive how it is, and says what its answers mean. It reads what ATA (ATA Command Set, SMART
// feature set and General Purpose Logging), NVMe (NVM Express Base Specification, Get Log Page) and SCSI (SCSI Primary
// Commands, LOG SENSE) drives keep of themselves, and sends nothing that changes anything.
package health

import (
	"maps"
	"time"
)

// Figure names a number that a drive keeps of itself.
type Figure string

// What drives count. Those that a drive doesn't tell are absent from its report.
const (
	Hours         Figure = "power_on_hours"
	Starts        Figure = "power_cycles"
	UnsafeOffs    Figure = "unsafe_shutdowns"
	BytesRead     Figure = "bytes_read"
	BytesWritten  Figure = "bytes_written"
	Reallocated   Figure = "reallocated_sectors"
	Pending       Figure = "pending_sectors" // can't be read, wait to be reallocated
	Uncorrectable Figure = "uncorrectable_sectors"
	MediaErrors   Figure = "media_errors" // reads that couldn't be corrected
	LinkErrors    Figure = "interface_errors"
	Wear          Figure = "wear_percent" // of what the maker promises; may be over 100
	Spare         Figure = "spare_percent"
	SpareLeast    Figure = "spare_least_percent"
	Temperature   Figure = "temperature" // degrees Celsius
	Hottest       Figure = "temperature_limit"
	LinkNow       Figure = "link_speed"      // bits per second, as it is used
	LinkBest      Figure = "link_speed_best" // bits per second, as the drive could
)

// Standard is the language in which a drive answers.
type Standard string

const (
	ATA  Standard = "ATA"
	NVMe Standard = "NVMe"
	SCSI Standard = "SCSI"
)

// SelfTest is the result of the drive's last test of itself.
type SelfTest struct {
	Passed bool `json:"passed"`
	// Words say how it ended.
	Words string `json:"how_it_ended"`
	// Hours is how long the drive had been switched on by then, in all.
	Hours int64 `json:"at_hours"`
	// Sector is the first one that couldn't be read, -1 when none is told.
	Sector int64 `json:"failed_sector"`
}

// Report is what a drive said of itself.
type Report struct {
	// Standard is empty where the drive told nothing; then Silent says why.
	Standard Standard         `json:"standard,omitempty"`
	Silent   string           `json:"silent,omitempty"`
	At       time.Time        `json:"asked_at"`
	Firmware string           `json:"firmware,omitempty"`
	Figures  map[Figure]int64 `json:"figures,omitempty"`
	// Alarms are what the drive itself calls a failure, in words.
	Alarms []string `json:"alarms,omitempty"`
	// Cautions are what it warns of itself, in words.
	Cautions []string  `json:"cautions,omitempty"`
	SelfTest *SelfTest `json:"self_test,omitempty"`
	// Zones says how a drive with zones wants to be written, empty for one that tells of none.
	Zones string `json:"zones,omitempty"`
	// Trims says that the drive can be told which sectors aren't needed any more.
	Trims bool `json:"trims,omitempty"`
}

func newReport(s Standard) *Report { return &Report{Standard: s, Figures: map[Figure]int64{}} }

func silent(why string) *Report { return &Report{Silent: why} }

// Told says whether the drive said anything.
func (r *Report) Told() bool { return r != nil && r.Standard != "" }

// Of is a figure, and whether the drive told it.
func (r *Report) Of(f Figure) (int64, bool) {
	if r == nil {
		return 0, false
	}
	n, ok := r.Figures[f]
	return n, ok
}

// Zoned is the report with how the kernel says that a drive with zones wants to be written ("none" for one without;
// kernel documentation, ABI/stable/sysfs-block, queue/zoned), where the drive tells nothing of it.
func (r *Report) Zoned(how string) *Report {
	if !r.Told() || r.Zones != "" || how == "" || how == "none" {
		return r
	}
	out := *r
	out.Zones = how
	return &out
}

// Linked is the report with the speeds of the way to the drive, in bits per second, as the computer knows them: the
// slowest stretch counts. 0 is for what it doesn't know.
func (r *Report) Linked(now, best int64) *Report {
	if !r.Told() {
		return r
	}
	out := *r
	out.Figures = maps.Clone(r.Figures)
	if own, told := r.Of(LinkNow); now > 0 && (!told || now < own) {
		out.Figures[LinkNow] = now
	}
	if _, told := r.Of(LinkBest); best > 0 && !told {
		out.Figures[LinkBest] = best
	}
	return &out
}
