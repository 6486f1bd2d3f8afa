package health

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
)

// labelled makes an image file whose label says how its drive is.
func labelled(t *testing.T, health string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "kiosk.img")
	label, err := json.Marshal(disk.Label{Model: "Sandmartin S 64", Health: json.RawMessage(health)})
	if err == nil {
		err = errors.Join(os.WriteFile(path, make([]byte, 4096), 0o600), os.WriteFile(disk.LabelPath(path), label,
			0o600))
	}
	if err != nil {
		t.Fatal(err)
	}
	return path
}

// TestFiguresComeBack: what the label says comes back through the structures of each standard, and nothing else.
func TestFiguresComeBack(t *testing.T) {
	for standard, figures := range map[string]map[Figure]int64{
		"ATA": {Hours: 41288, Starts: 8130, Reallocated: 64, Pending: 212, Uncorrectable: 9, LinkErrors: 3,
			Temperature: 47, Wear: 63, LinkNow: 1_500_000_000, LinkBest: 6_000_000_000},
		"NVMe": {Hours: 9120, Starts: 2204, UnsafeOffs: 31, BytesWritten: 18_900_000_000 * 512, BytesRead: 512_000,
			MediaErrors: 2, Spare: 98, SpareLeast: 10, Wear: 112, Temperature: 38, Hottest: 77},
		"SCSI": {Hours: 50_000, Starts: 77, MediaErrors: 4, Temperature: 55, Hottest: 68},
	} {
		raw, err := json.Marshal(map[string]any{"standard": standard, "firmware": "F1.2", "figures": figures})
		if err != nil {
			t.Fatal(err)
		}
		var a Asker
		r := a.Ask(t.Context(), labelled(t, string(raw)))
		if string(r.Standard) != standard || r.Firmware != "F1.2" || r.Silent != "" || r.At.IsZero() {
			t.Errorf("%s: %+v", standard, r)
		}
		if !maps.Equal(r.Figures, figures) {
			t.Errorf("%s:\n%v\nwant\n%v", standard, r.Figures, figures)
		}
		if len(r.Lines()) < len(figures)+2 {
			t.Errorf("%s: %v", standard, r.Lines())
		}
	}
}

func TestVerdicts(t *testing.T) {
	for _, c := range []struct {
		health string
		level  Level
		words  string
	}{
		{`{"standard":"ATA","figures":{"pending_sectors":212,"reallocated_sectors":3}}`, Failing,
			"failing: 212 sectors wait to be reallocated; 3 sectors have been reallocated; copy it before " +
				"anything else"},
		{`{"standard":"ATA","figures":{"pending_sectors":1}}`, Failing,
			"failing: 1 sector waits to be reallocated; copy it before anything else"},
		{`{"standard":"ATA","figures":{"reallocated_sectors":2}}`, Watch,
			"watch: 2 sectors have been reallocated; " + copySoon},
		{`{"standard":"ATA","figures":{"reallocated_sectors":500}}`, Failing, "failing: 500 sectors"},
		{`{"standard":"ATA","figures":{"interface_errors":1}}`, Watch,
			"watch: 1 error on its interface: check the cable and the dock"},
		{`{"standard":"ATA","fails":true}`, Failing, "failing: its own check says that it is about to fail"},
		{`{"standard":"SCSI","fails":true,"figures":{"temperature":30}}`, Failing, "(code 5Dh, 10h)"},
		{`{"standard":"NVMe","fails":true}`, Failing, "failing: it says that it isn't reliable any more"},
		{`{"standard":"NVMe","figures":{"wear_percent":93}}`, Watch, "nearly worn out: 93 %"},
		{`{"standard":"NVMe","figures":{"temperature":71,"temperature_limit":77}}`, Sound,
			"no fault in its own figures"},
		{`{"standard":"NVMe","figures":{"temperature":77,"temperature_limit":77}}`, Watch, "it is hot: 77 °C"},
		{`{"standard":"ATA","figures":{"power_on_hours":900},"failed_test":1234}`, Failing,
			"its last self-test failed in reading at sector 1234"},
		{`{"standard":"NVMe","figures":{"power_on_hours":900},"failed_test":99}`, Failing,
			"its last self-test failed at sector 99"},
		{`{"standard":"ATA","figures":{"link_speed":1500000000,"link_speed_best":6000000000}}`, Sound,
			"no fault in its own figures; attached at 1.5 Gb/s, it could do 6.0 Gb/s"},
		{`{"standard":"ATA","refuses":true}`, Untold, "doesn't tell how it is"},
		{`{"standard":"NVMe","refuses":true}`, Untold, "doesn't tell how it is"},
		{`"nonsense"`, Untold, "no health of its own"},
	} {
		var a Asker
		r := a.Ask(t.Context(), labelled(t, c.health))
		if v := r.Verdict(); v.Level != c.level || !strings.Contains(r.Words(), c.words) {
			t.Errorf("%s: %v, %s", c.health, v.Level, r.Words())
		}
	}
	if r := (*Report)(nil); r.Told() || r.Verdict().Level != Untold || r.Words() == "" {
		t.Error("a drive that nobody asked has a verdict")
	}
}

// TestSilence: what can't be asked says why, and a drive that hangs holds nobody up, nor is it asked again meanwhile.
func TestSilence(t *testing.T) {
	var a Asker
	if r := a.Ask(t.Context(), filepath.Join(t.TempDir(), "nothing")); !strings.Contains(r.Silent, "can't be reached") {
		t.Errorf("%+v", r)
	}
	if r := a.Ask(t.Context(), labelled(t, "")); r.Told() {
		t.Errorf("a plain image file tells %+v", r)
	}
	hangs := labelled(t, `{"standard":"ATA","hangs":1.5,"figures":{"pending_sectors":7}}`)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if r := a.Ask(ctx, hangs); r.Told() || !strings.Contains(r.Silent, "cancelled") {
		t.Errorf("%+v", r)
	}
	if c := a.question(hangs); c != a.question(hangs) {
		t.Error("a drive that hangs was asked twice")
	}
	if r := a.Ask(t.Context(), hangs); r.Figures[Pending] != 7 {
		t.Errorf("its answer, once it came: %+v", r)
	}
	if len(a.waiting) != 0 {
		t.Errorf("%d questions are left", len(a.waiting))
	}
}

// TestThresholds: a value at its maker's limit is an alarm; one above it, and one that says nothing of failures, isn't.
func TestThresholds(t *testing.T) {
	data, limits := make([]byte, ataSector), make([]byte, ataSector)
	for i, a := range []struct{ id, flags, value, limit byte }{{1, 1, 51, 51}, {3, 1, 52, 51}, {4, 0, 1, 20}, {7, 1,
		0, 9}} {
		b := data[attributesAt+i*attributeLen:]
		b[0], b[1], b[3] = a.id, a.flags, a.value
		limits[attributesAt+i*attributeLen], limits[attributesAt+i*attributeLen+1] = a.id, a.limit
	}
	r := newReport(ATA)
	r.attributes(data, limits)
	if len(r.Alarms) != 1 || r.Alarms[0] != "the read error rate has fallen to 51; its maker's limit is 51" {
		t.Errorf("%q", r.Alarms)
	}
}

// TestLinked: the slowest stretch of the way counts.
func TestLinked(t *testing.T) {
	r := newReport(ATA)
	r.Figures[LinkNow], r.Figures[LinkBest] = 6_000_000_000, 6_000_000_000
	slow := r.Linked(480_000_000, 0)
	if slow.Figures[LinkNow] != 480_000_000 || r.Figures[LinkNow] != 6_000_000_000 ||
		!strings.Contains(slow.Words(), "attached at 480 Mb/s") {
		t.Errorf("%v %s", slow.Figures, slow.Words())
	}
	if fast := r.Linked(10_000_000_000, 20_000_000_000); !maps.Equal(fast.Figures, r.Figures) {
		t.Errorf("%v", fast.Figures)
	}
	if r.Zoned("none") != r || r.Zoned("") != r || r.Zoned("host-aware").Zones != "host-aware" || r.Zones != "" {
		t.Error("zones are told otherwise than by the kernel")
	}
	if quiet := silent("no"); quiet.Linked(1, 1) != quiet {
		t.Error("a silent drive has a speed")
	}
}

// hostile answers everything with the same bytes.
type hostile struct{ says []byte }

func (h hostile) scsi(_, data []byte) (int, []byte, error) {
	return copy(data, h.says), h.says[:min(len(h.says), senseLen)], nil
}

func (h hostile) admin(_ adminCommand, data []byte) error {
	copy(data, h.says)
	return nil
}

// FuzzAnswers: whatever a drive answers, nothing panics, and what isn't told isn't sound.
func FuzzAnswers(f *testing.F) {
	for _, s := range []*standIn{{Standard: ATA, Firmware: "F", Figures: map[Figure]int64{Hours: 9}, FailedTest: 5}} {
		for _, command := range []byte{smartReadData, smartReadLog} {
			b := make([]byte, ataSector)
			_, _, _ = s.ata(ataCommand{command: ataSMART, feature: command}.cdb(true), b)
			f.Add(b)
		}
		b := make([]byte, ataSector)
		s.identify(b)
		f.Add(b)
	}
	page := make([]byte, logLen)
	page = page[:(&standIn{Standard: SCSI, Figures: map[Figure]int64{Temperature: 3}}).logSense(0x0D, page)]
	f.Add(page)
	f.Fuzz(func(t *testing.T, says []byte) {
		for _, nvme := range []bool{false, true} {
			r, err := askThrough(hostile{says}, nvme)
			if (r == nil) == (err == nil) {
				t.Fatalf("%v, %v", r, err)
			}
			_, _ = r.Words(), r.Lines()
		}
		r := newReport(SCSI)
		h := hostile{says}
		for number, v := range logParameters(h, byte(len(says))&0x3F) {
			for _, p := range scsiPages {
				p.take(r, number, v)
			}
		}
		_, _ = r.Words(), r.Lines()
	})
}

// TestRegisters: the answer of SMART RETURN STATUS is found among other descriptors, and a torn one isn't read.
func TestRegisters(t *testing.T) {
	sense := append([]byte{0x72, 1, 0, 29, 0, 0, 0, 20}, 0x00, 4, 0, 0, 0, 0)
	sense = append(sense, 0x09, 12, 0, 0, 0, 0, 0, 0, 0, 0xF4, 0, 0x2C, 0, 0)
	if at, ok := ataRegisters(sense); !ok || at>>8 != smartExceeded {
		t.Errorf("%x %v", at, ok)
	}
	for n := range sense {
		if _, ok := ataRegisters(sense[:n]); ok {
			t.Errorf("registers in the first %d bytes", n)
		}
	}
	if n := number(binary.BigEndian.AppendUint64(nil, 1<<56|5)); n != 5 {
		t.Errorf("a counter that is too long: %d", n)
	}
}
